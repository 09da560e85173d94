import { expect, it } from "vitest";
import { radiusOf, radiusText } from "./radius";

it("says a radius as a plan does", () => {
  expect(radiusOf("auto").kind).toBe("auto");
  expect(radiusOf("4.5")).toEqual({ kind: "fixed", value: 4.5 });
  expect(radiusOf("1.8 fwhm")).toEqual({ kind: "follows", value: 1.8 });
  for (const text of ["auto", "4.5", "1.8 fwhm"]) {
    const { kind, value } = radiusOf(text);
    expect(radiusText(kind, value)).toBe(text);
  }
  expect(radiusText("follows", null)).toBe("1.6 fwhm");
});
