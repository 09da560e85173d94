import type { FieldStar } from "../../api/types";

export interface NoisePoint {
  row: number;
  name: string;
  magnitude: number;
  /** log₁₀ of the scatter in mmag. */
  log: number;
  times: number;
  odd: boolean;
}

const ODD_TIMES = 3;
const NEAR_PX = 10;

/** Stars by brightness and scatter, the model's line as a running middle, and ranges for a chart. */
export function noiseOf(stars: readonly FieldStar[]): {
  points: NoisePoint[];
  model: [number, number][];
  x: [number, number];
  y: [number, number];
  /** Scatter over what is expected, in the middle of the stars. */
  ratio: number;
} | null {
  const known = stars
    .filter((s) => s.magnitude != null && (s.scatter_mag ?? 0) > 0 && (s.expected_mag ?? 0) > 0)
    .sort((a, b) => a.magnitude! - b.magnitude!);
  if (known.length < 2) return null;
  const log = (mag: number) => Math.log10(1000 * mag);
  const points = known.map((s) => ({
    row: s.row,
    name: s.name,
    magnitude: s.magnitude!,
    log: log(s.scatter_mag!),
    times: s.times ?? NaN,
    odd: (s.times ?? 0) > ODD_TIMES,
  }));
  const step = Math.max(1, Math.floor(known.length / 40));
  const model: [number, number][] = [];
  for (let i = 0; i < known.length; i += step) {
    const some = known
      .slice(i, i + step)
      .map((s) => s.expected_mag!)
      .sort((a, b) => a - b);
    const at = known[Math.min(i + (step >> 1), known.length - 1)]!.magnitude!;
    model.push([at, log(some[some.length >> 1]!)]);
  }
  const logs = [...points.map((p) => p.log), ...model.map(([, v]) => v)].sort((a, b) => a - b);
  const times = points
    .map((p) => p.times)
    .filter(Number.isFinite)
    .sort((a, b) => a - b);
  return {
    points,
    model,
    x: [points[0]!.magnitude - 0.2, points.at(-1)!.magnitude + 0.2],
    y: [logs[0]! - 0.1, logs.at(-1)! + 0.1],
    ratio: times[times.length >> 1] ?? NaN,
  };
}

/** 1, 2, 5, 10 … mmag within a range of logarithms. */
export function decades([low, high]: [number, number]): { at: number; words: string }[] {
  const found = [];
  for (let power = Math.floor(low); power <= Math.ceil(high); power++)
    for (const digit of [1, 2, 5]) {
      const value = digit * 10 ** power;
      const at = Math.log10(value);
      if (at >= low && at <= high) found.push({ at, words: String(Number(value.toPrecision(3))) });
    }
  return found;
}

/** The row of the point nearest to a place in pixels, within ten; null without. */
export function nearestTo<T extends { row: number }>(
  points: readonly T[],
  place: (point: T) => readonly [number, number],
  at: { x: number; y: number },
): number | null {
  let row: number | null = null;
  let distance = NEAR_PX;
  for (const point of points) {
    const [px, py] = place(point);
    const away = Math.hypot(px - at.x, py - at.y);
    if (away < distance) [row, distance] = [point.row, away];
  }
  return row;
}
