import { expect, it } from "vitest";
import type { FieldStar } from "../../api/types";
import { decades, nearestTo, noiseOf } from "./noise";

const star = (row: number, magnitude: number, scatter: number, expected: number): FieldStar =>
  ({
    row,
    name: `Sorrel ${row}`,
    magnitude,
    scatter_mag: scatter,
    expected_mag: expected,
    times: scatter / expected,
  }) as FieldStar;

it("lays scatter by brightness beside the model, and tells what stands out", () => {
  const stars = [star(1, 12, 0.01, 0.01), star(2, 11, 0.004, 0.005), star(3, 13, 0.08, 0.02)];
  const { points, model, ratio } = noiseOf([...stars, { ...star(4, 14, 0, 0.03) }])!;
  expect(points.map((p) => p.row)).toEqual([2, 1, 3]);
  expect(points[1]!.log).toBeCloseTo(1, 9);
  expect(points.map((p) => p.odd)).toEqual([false, false, true]);
  expect(model.map(([m]) => m)).toEqual([11, 12, 13]);
  expect(ratio).toBeCloseTo(1, 9);
  expect(noiseOf([])).toBeNull();
  expect(decades([0.2, 1.4]).map((tick) => tick.words)).toEqual(["2", "5", "10", "20"]);
  expect(nearestTo(points, (p) => [p.magnitude * 10, 0], { x: 118, y: 0 })).toBe(1);
  expect(nearestTo(points, (p) => [p.magnitude * 10, 0], { x: 80, y: 0 })).toBeNull();
});
