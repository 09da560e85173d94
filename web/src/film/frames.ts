import type { Exposure } from "../api/types";

/** A frame of the film: an exposure, and where its cut-out stands on the strip. */
export interface FilmFrame {
  exposure: Exposure;
  left: number;
}

/**
 * The frames that have room, side by side on the rail's axis: the one under the beam before all
 * others, then from the left. `at` is where an exposure stands on the strip.
 */
export function framesOf(
  exposures: readonly Exposure[],
  at: (e: Exposure) => number,
  size: number,
  left: number,
  right: number,
  beam: number | null,
): FilmFrame[] {
  const taken: FilmFrame[] = [];
  const inside = exposures.filter((e) => at(e) >= left - size / 2 && at(e) <= right + size / 2);
  const put = (e: Exposure) => {
    const x = Math.min(Math.max(at(e) - size / 2, left), right - size);
    if (taken.every((frame) => Math.abs(frame.left - x) >= size))
      taken.push({ exposure: e, left: x });
  };
  const under = inside.find((e) => e.id === beam);
  if (under) put(under);
  for (const e of inside) put(e);
  return taken.sort((a, b) => a.left - b.left);
}

/** The size of frames at which as many of them as can be have room on the strip. */
export function frameSize(count: number, width: number, smallest: number, largest: number): number {
  return Math.round(Math.min(Math.max(width / Math.max(count, 1), smallest), largest));
}
