import { expect, it } from "vitest";
import { chartAddress, USUAL_CHART } from "./finder";

it("asks for a chart as it was typed, and for none over an exposure that is not placed", () => {
  const look = { ...USUAL_CHART, width: "7,5", up: "x", over: "exposure" as const };
  expect(chartAddress(1, "pdf", look, "V", 12)).toBe(
    "/api/campaigns/1/finder.pdf?width=7.5&up=0&mirrored=false&filter=V&file=12",
  );
  expect(chartAddress(1, "svg", { ...look, width: "9000" }, "", null)).toBe(
    "/api/campaigns/1/finder.svg?width=600&up=0&mirrored=false",
  );
});
