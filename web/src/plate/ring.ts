import type { Measuring, MeasuredStars } from "../api/types";
import type { Point } from "./view";

/** One edge of a star's sky ring that is held: 0 the inner, 1 the outer. */
export interface HeldEdge {
  edge: 0 | 1;
  centre: Point;
}

type Ring = [number, number];

const NARROWEST_PX = 1;

/** The edge of a star's ring at a pixel of the image, within so many pixels; null where none is. */
export function edgeAt(
  pixel: Point,
  measured: MeasuredStars,
  rows: ReadonlySet<number>,
  within: number,
): HeldEdge | null {
  let best: HeldEdge | null = null;
  let distance = within;
  measured.row.forEach((row, i) => {
    if (!rows.has(row)) return;
    const centre = { x: measured.x_px[i]!, y: measured.y_px[i]! };
    const away = Math.hypot(pixel.x - centre.x, pixel.y - centre.y);
    for (const edge of [0, 1] as const) {
      const off = Math.abs(away - measured.annulus_px[edge]!);
      if (off >= distance) continue;
      distance = off;
      best = { edge, centre };
    }
  });
  return best;
}

/** The ring with the held edge drawn to a pixel: never into the aperture, never turned inside out. */
export function drawnTo(held: HeldEdge, pixel: Point, ring: Ring, radius: number): Ring {
  const away = Math.hypot(pixel.x - held.centre.x, pixel.y - held.centre.y);
  return held.edge === 0
    ? [Math.min(Math.max(away, radius), ring[1] - NARROWEST_PX), ring[1]]
    : [ring[0], Math.max(away, ring[0] + NARROWEST_PX)];
}

/** What is measured with once a ring is so many pixels wide, in the unit that is in force. */
export function measuringWith(ring: Ring, was: Ring, measuring: Measuring): Measuring {
  const [inner, outer] = measuring.annulus as Ring;
  // A ring that was moved out of the apertures' way kept its width.
  const unit = measuring.annulus_in_pixels ? 1 : (was[1] - was[0]) / (outer - inner);
  const rounded = (value: number) => Math.round((10 * value) / unit) / 10;
  return { ...measuring, annulus: [rounded(ring[0]), rounded(ring[1])] };
}
