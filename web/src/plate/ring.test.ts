import { describe, expect, it } from "vitest";
import type { Measuring, MeasuredStars } from "../api/types";
import { drawnTo, edgeAt, measuringWith } from "./ring";

const measured = {
  row: [4, 7],
  x_px: [100, 300],
  y_px: [100, 100],
  annulus_px: [10.5, 16.5],
  radius_px: 5,
} as unknown as MeasuredStars;

describe("the sky ring on the plate", () => {
  it("is taken at its edges, of stars that show it", () => {
    expect(edgeAt({ x: 111, y: 100 }, measured, new Set([4]), 2)?.edge).toBe(0);
    expect(edgeAt({ x: 100, y: 84 }, measured, new Set([4]), 2)?.edge).toBe(1);
    expect(edgeAt({ x: 113.5, y: 100 }, measured, new Set([4]), 2)).toBeNull();
    expect(edgeAt({ x: 311, y: 100 }, measured, new Set([4]), 2)).toBeNull();
    expect(edgeAt({ x: 311, y: 100 }, measured, new Set([7]), 2)?.centre.x).toBe(300);
  });

  it("follows the pointer, but not into the aperture nor through itself", () => {
    const inner = { edge: 0 as const, centre: { x: 100, y: 100 } };
    expect(drawnTo(inner, { x: 108, y: 100 }, [10.5, 16.5], 5)).toEqual([8, 16.5]);
    expect(drawnTo(inner, { x: 102, y: 100 }, [10.5, 16.5], 5)).toEqual([5, 16.5]);
    expect(drawnTo(inner, { x: 130, y: 100 }, [10.5, 16.5], 5)).toEqual([15.5, 16.5]);
    expect(drawnTo({ ...inner, edge: 1 }, { x: 101, y: 100 }, [10.5, 16.5], 5)).toEqual([
      10.5, 11.5,
    ]);
  });

  it("is kept in star widths or in pixels, as it was", () => {
    const widths: Measuring = { radius: "auto", annulus: [3.5, 5.5], annulus_in_pixels: false };
    expect(measuringWith([12, 18], [10.5, 16.5], widths).annulus).toEqual([4, 6]);
    const pixels: Measuring = { radius: "auto", annulus: [10.5, 16.5], annulus_in_pixels: true };
    expect(measuringWith([12.34, 18], [10.5, 16.5], pixels).annulus).toEqual([12.3, 18]);
  });
});
