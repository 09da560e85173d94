import {
  beyond,
  inFile,
  markOf,
  markWords,
  pointedAt,
  starsTouched,
  touched,
} from "./correct/defects";
import { describe, expect, it } from "vitest";
import type { Exposure, FilterCurve } from "../api/types";
import { inside, phaseOf } from "../charts/marks";
import { strokeShare } from "../rail/strokes";
import { declination, duration, fixed, oneIn, rightAscension } from "../ui/words";
import { foldMarks } from "./curve/phase";
import { comparisonMarks, marksOf } from "./curve/shown";
import { withRole } from "./cast/roles";
import type { Marking } from "../state";
import { dropped } from "./vet/limits";

const cast = { target: 1, comparison: [2, 3], checks: [4] };

describe("roles", () => {
  it("are one to a star", () => {
    expect(withRole(cast, 2, "check")).toEqual({ target: 1, comparison: [3], checks: [4, 2] });
    expect(withRole(cast, 3, "target")).toEqual({ target: 3, comparison: [2], checks: [4] });
    expect(withRole(cast, 4, "comparison")).toEqual({
      target: 1,
      comparison: [2, 3, 4],
      checks: [],
    });
  });

  it("are given and taken by the same key", () => {
    expect(withRole(cast, 2, "comparison").comparison).toEqual([3]);
    expect(withRole(cast, 4, "check").checks).toEqual([]);
    expect(withRole(cast, 9, "comparison").comparison).toEqual([2, 3, 9]);
  });

  it("leave a curve with a target", () => {
    expect(withRole(cast, 1, "none")).toEqual(cast);
    expect(withRole(cast, 1, "comparison")).toEqual(cast);
  });
});

const exposure = (values: Partial<Exposure>): Exposure =>
  ({
    aside_by: "",
    trouble: "",
    fwhm_px: 3,
    stars: 100,
    transparency: null,
    ...values,
  }) as Exposure;

describe("limits", () => {
  it("drop what lies beyond any of them, and only what takes part", () => {
    const night = [
      exposure({ id: 1, fwhm_px: 5 }),
      exposure({ id: 2, stars: 20 }),
      exposure({ id: 3, fwhm_px: 6, aside_by: "observer" }),
      exposure({ id: 4, fwhm_px: null }),
      exposure({ id: 5 }),
    ];
    const limits = [
      { quality: "fwhm_px", side: "above", value: 4 },
      { quality: "stars", side: "below", value: 50 },
    ] as const;
    expect(dropped(night, [...limits]).map((e) => e.id)).toEqual([1, 2]);
  });
});

describe("strokes on the rail", () => {
  it("are as tall as the light that comes through, before that as the share of stars", () => {
    expect(strokeShare(exposure({ transparency: 0.5 }), 200)).toBe(0.5);
    expect(strokeShare(exposure({ stars: 50 }), 200)).toBe(0.25);
    expect(strokeShare(exposure({ transparency: 0 }), 200)).toBeGreaterThan(0);
  });
});

const series = (role: string, magnitude: number[], name = role) => ({
  row: 1,
  name,
  role,
  known_magnitude: 12,
  weight: null,
  magnitude,
  uncertainty: magnitude.map(() => 0.01),
  instrumental: magnitude.map((m) => m - 20),
  flags: {},
  doubtful: [],
  limit: {},
});
const curve = {
  filter: "V",
  file_ids: [7, 8, 9],
  bjd_tdb: [10, 10.25, 11.3],
  series: [
    series("target", [12, 12.5, 12.1]),
    series("check", [12.5, 12.52, 12.51]),
    series("comparison", [11, 11.01, 11.02], "one"),
    series("comparison", [12, 12.01, 12.02], "two"),
  ],
} as unknown as FilterCurve;
const hours = new Map([
  [7, 0],
  [8, 6],
  [9, 7],
]);

describe("the curve", () => {
  it("shows the target as it is and the check star from its mean", () => {
    expect(marksOf(curve, "target", hours, "standard")[0]!.y).toEqual([12, 12.5, 12.1]);
    const check = marksOf(curve, "check", hours, "standard")[0]!;
    expect(check.y.map((v) => Math.round(v! * 1000))).toEqual([-10, 10, 0]);
    expect(check.x).toEqual([0, 6, 7]);
    expect(marksOf(curve, "target", hours, "raw")[0]!.y[0]).toBe(-8);
    const both = { ...curve, standard: { magnitude: [11.9, null, 12], uncertainty: [1, 1, 1] } };
    const [standard] = marksOf(both as unknown as FilterCurve, "target", hours, "standard");
    expect([standard!.y, standard!.sigma[0]]).toEqual([[11.9, null, 12], 1]);
    expect(marksOf(both as unknown as FilterCurve, "target", hours, "own")[0]!.y[0]).toBe(12);
  });

  it("keeps comparison stars apart", () => {
    const { marks, rows } = comparisonMarks(curve, hours);
    expect(rows.map((row) => row.words)).toEqual(["1 one", "2 two"]);
    expect(marks[1]!.y[1]! - marks[0]!.y[1]!).toBeCloseTo(0.06, 9);
  });

  it("folds, and repeats a quarter at either side", () => {
    expect(phaseOf(11.3, 10, 0.5)).toBeCloseTo(0.6, 9);
    expect(phaseOf(9.9, 10, 0.5)).toBeCloseTo(0.8, 9);
    const target = marksOf(curve, "target", hours, "standard");
    const folded = foldMarks(target, [curve], 0.5, curve.bjd_tdb[0]!);
    const all = folded.flatMap((m) => m.x.map((x, i) => [m.ids[i], Number(x.toFixed(3))]));
    expect(all).toEqual([
      [7, 0],
      [7, 1],
      [8, 0.5],
      [9, 0.6],
    ]);
  });

  it("knows what was drawn around", () => {
    const loop: [number, number][] = [
      [0, 0],
      [10, 0],
      [10, 10],
      [0, 10],
    ];
    expect(inside(loop, 5, 5)).toBe(true);
    expect(inside(loop, 15, 5)).toBe(false);
  });
});

describe("numbers in words", () => {
  it("are written as an observer writes them", () => {
    expect(rightAscension(340.2608333)).toBe("22 41 02.60");
    expect(declination(-0.5)).toBe("−00 30 00.0");
    expect(declination(41.59999999)).toBe("+41 36 00.0");
    expect(rightAscension(359.99999999)).toBe("00 00 00.00");
    expect(rightAscension(14.99999999)).toBe("01 00 00.00");
    expect(duration(41)).toBe("0:41");
    expect(duration(3725)).toBe("1:02:05");
    expect(fixed(-1.256, 2, "mag")).toBe("−1.26 mag");
    expect(fixed(null, 2)).toBe("–");
    expect(oneIn(-433.2)).toBe("1 in 10⁴³³");
  });
});

describe("defects", () => {
  const defects = {
    threshold: 80, own: false, marks: [], more: false,
    x_px: [1, 2, 3, 4], y_px: [1, 2, 3, 4], deviation: [300, 90, 40, 8], stars: [0, 12, 95],
    kit: "camera, 640 × 480", versions: [], on_exposures: false, first: [5, 1], step: 1,
    star_x_px: [10, 20, 30], star_y_px: [1, 2, 3], radius_px: 4,
  }; // prettier-ignore

  it("are counted beyond a threshold, and so are the stars that a repair touches", () => {
    expect([5, 40, 80, 500].map((z) => beyond(defects, z))).toEqual([4, 2, 2, 0]);
    expect([5, 80, 100].map((z) => touched(defects, z))).toEqual([2, 1, 0]);
    expect(starsTouched(defects, 80)).toEqual([{ x: 30, y: 3 }]);
  });

  it("are marked by pointing at the image: whole lines by a click, parts and boxes by a drag", () => {
    const image = { width: 640, height: 480 };
    const at = (how: Marking, dragged: boolean) =>
      pointedAt(how, { x: 12.4, y: 99.6 }, { x: 9.2, y: 30 }, dragged, image);
    expect(at("column", false)).toEqual([12, 0, 1, 480]);
    expect(at("column", true)).toEqual([12, 30, 1, 71]);
    expect(at("row", false)).toEqual([0, 100, 640, 1]);
    expect(at("row", true)).toEqual([9, 100, 4, 1]);
    expect(at("box", true)).toEqual([9, 30, 4, 71]);
    // What is dragged beyond the image ends at its edge.
    const out = pointedAt("box", { x: 630, y: 5 }, { x: 900, y: -40 }, true, image);
    expect(out).toEqual([630, 0, 10, 6]);
    // Kept in pixels of the file: behind the overscan, and on a colour's own sites.
    expect(inFile([12, 0, 1, 480], defects)).toEqual([17, 1, 1, 480]);
    expect(inFile([3, 2, 2, 1], { ...defects, first: [2, 1], step: 2 })).toEqual([8, 5, 3, 1]);
  });

  it("are marked by columns, rows, parts of them and boxes", () => {
    const mark = (text: string) => markOf(text, 640, 480);
    expect(mark("512")).toEqual([512, 1, 1, 480]);
    expect(mark("512, 100-400")).toEqual([512, 100, 1, 301]);
    expect(mark("row 40")).toEqual([1, 40, 640, 1]);
    expect(mark("row 40: 7–9")).toEqual([7, 40, 3, 1]);
    expect(mark("10 20 5 6")).toEqual([10, 20, 5, 6]);
    expect([mark("a column"), mark("5, 9-3"), mark("0")]).toEqual([null, null, null]);
    expect(markWords([512, 100, 1, 301])).toBe("column 512, rows 100–400");
    expect(markWords([7, 40, 3, 1])).toBe("row 40, columns 7–9");
    expect(markWords([10, 20, 5, 6])).toBe("5 × 6 pixels from 10, 20");
  });
});
