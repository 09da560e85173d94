import type { Exposure } from "../api/types";

/** One stroke of the rail: an exposure, or those that share its pixel where they stand closer than
 * the eye can part. */
export interface Stroke {
  filter: string;
  x: number;
  what: "standing" | "aside" | "broken";
  /** How tall, 0 to 1: of several the tallest. */
  share: number;
  /** How dark: measured, placed or neither. */
  ink: number;
  chosen: boolean;
  proposed: boolean;
}

const CLOSE_PX = 0.5;

/** How tall an exposure's stroke is, 0 to 1: transparency once known, else its share of stars. */
export function strokeShare(e: Exposure, mostStars: number): number {
  if (e.transparency !== null) return Math.min(Math.max(e.transparency, 0.06), 1);
  if (e.stars !== null && mostStars > 0) return Math.min(Math.max(e.stars / mostStars, 0.06), 1);
  return 0.6;
}

/**
 * The strokes of exposures, `apartPx` from one to the next: below half a pixel those of one filter
 * and state share a pixel, so that fifty thousand are drawn as some thousand; nothing that hangs
 * below, is chosen or proposed gets lost by it.
 */
export function strokesOf(
  exposures: readonly Exposure[],
  place: (e: Exposure) => number,
  apartPx: number,
  chosen: ReadonlySet<number>,
): Stroke[] {
  const mostStars = exposures.reduce((most, e) => Math.max(most, e.stars ?? 0), 1);
  const strokes: Stroke[] = [];
  const columns = new Map<string, Stroke>();
  for (const e of exposures) {
    const own: Stroke = {
      filter: e.filter,
      x: place(e),
      what: e.trouble ? "broken" : e.aside_by ? "aside" : "standing",
      share: strokeShare(e, mostStars),
      ink: e.measured ? 1 : e.placed ? 0.6 : 0.35,
      chosen: chosen.has(e.id),
      proposed: !!e.proposal,
    };
    if (apartPx < CLOSE_PX) {
      const column = Math.floor(own.x);
      const key = `${column} ${own.what} ${own.filter}`;
      const there = columns.get(key);
      if (there) {
        there.share = Math.max(there.share, own.share);
        there.ink = Math.max(there.ink, own.ink);
        there.chosen ||= own.chosen;
        there.proposed ||= own.proposed;
        continue;
      }
      own.x = column + 0.5;
      columns.set(key, own);
    }
    strokes.push(own);
  }
  return strokes;
}
