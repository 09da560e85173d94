import { describe, expect, it } from "vitest";
import type { Scale } from "../../api/types";
import { chartOf, indexWords, numberOrNull, signed, termWords } from "./scale";

const star = (colour: number, offset_mag: number, used = true) => ({
  row: 1,
  name: "Sorrel 1",
  colour,
  colour_uncertainty: 0.01,
  offset_mag,
  offset_uncertainty: 0.01,
  used,
});

describe("colour and air", () => {
  it("reads numbers as they are typed, and an emptied field as nothing said", () => {
    expect(["−0,04", " 0.5 ", "", "red"].map(numberOrNull)).toEqual([-0.04, 0.5, null, undefined]);
  });

  it("says a coefficient with its uncertainty and what it stands on", () => {
    expect(termWords({ value: -0.0412, uncertainty: 0.0031, fitted: 52 }, "stars")).toBe(
      "−0.0412 ± 0.0031",
    );
    expect(termWords({ value: 0.15, uncertainty: 0, fitted: 0 }, "stars")).toBe("0.1500, given");
    expect(termWords(null, "airmass")).toBe("too little airmass");
    expect([indexWords("B-V"), indexWords(""), signed(-2, 1)]).toEqual(["B − V", "colour", "−2.0"]);
  });

  it("draws the line over all colours and leaves room for the target's", () => {
    const { x, y, line } = chartOf({
      stars: [star(0.4, 0.01), star(0.9, -0.03), star(0.6, 2, false)],
      target_colour: 1.4,
      transform: { value: -0.08, uncertainty: 0.01, fitted: 2 },
      slope: -0.08,
      level: -0.01,
      centre: 0.65,
    } as unknown as Scale);
    expect(x[0]).toBeLessThan(0.4);
    expect(x[1]).toBeGreaterThan(1.4);
    // The star that is left out does not squeeze the others.
    expect(y[1]).toBeLessThan(0.1);
    expect(line![0]![1]).toBeCloseTo(-0.01 - 0.08 * (x[0] - 0.65), 9);
  });
});
