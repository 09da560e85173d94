import { colour, filterColour } from "../ui/words";
import type { Place } from "./Chart";

export type Role = "target" | "comparison" | "check";

/** One star in one filter over time or phase. */
export interface Marks {
  key: string;
  role: Role;
  filter: string;
  ids: number[];
  x: number[];
  y: (number | null)[];
  sigma: (number | null)[];
  /** What is to be said of a point. */
  words: string[];
  /** Which points may be wrong by more than their bars; those are drawn hollow. */
  doubtful: boolean[];
  /** Where the star was not seen, how bright it can have been at the most. */
  limit: (number | null)[];
  /** How strongly they are drawn, up to 1. */
  strength?: number;
}

/** Draw points with their uncertainties; flagged ones hollow, the one under the beam large. */
export function drawMarks(
  ctx: CanvasRenderingContext2D,
  place: Place,
  marks: Marks,
  beam: number | null,
  chosen: ReadonlySet<number>,
): void {
  const tone =
    marks.role === "target"
      ? colour(filterColour(marks.filter))
      : colour(marks.role === "check" ? "--check" : "--comparison");
  const r = 2.6 * place.ratio;
  ctx.strokeStyle = tone;
  ctx.lineWidth = place.ratio;
  // One path for all bars, one for all full marks, one for all hollow ones: far quicker than each
  // by itself, and bars that overlap stay as faint as the others.
  const strength = marks.strength ?? 1;
  ctx.globalAlpha = 0.55 * strength;
  ctx.beginPath();
  const barred = unseen(marks, 1);
  marks.x.forEach((x, i) => {
    const [y, s] = [marks.y[i], marks.sigma[i]];
    if (y == null || s == null) return;
    const [at, low, high] = [place.x(x), place.y(y - s), place.y(y + s)];
    if (!barred(at, low, high)) return;
    ctx.moveTo(at, low);
    ctx.lineTo(at, high);
  });
  ctx.stroke();
  ctx.globalAlpha = strength;
  ctx.lineWidth = 1.2 * place.ratio;
  for (const hollow of [false, true]) {
    if (hollow && !marks.doubtful.some(Boolean)) break;
    ctx.beginPath();
    const drawn = unseen(marks, r / 3);
    marks.x.forEach((x, i) => {
      const y = marks.y[i];
      if (y == null || (marks.doubtful[i] ?? false) !== hollow) return;
      const [px, py] = [place.x(x), place.y(y)];
      if (drawn(px, py)) trace(ctx, marks.role, px, py, hollow ? r : r * 1.15);
    });
    ctx.fillStyle = hollow ? colour("--ground") : tone;
    ctx.fill();
    if (hollow) ctx.stroke();
  }
  drawLimits(ctx, place, marks, tone);
  ctx.globalAlpha = 1;
  ctx.strokeStyle = colour("--beam");
  marks.x.forEach((x, i) => {
    const [y, id] = [marks.y[i], marks.ids[i]!];
    if (y == null || (id !== beam && !chosen.has(id))) return;
    ctx.beginPath();
    ctx.arc(place.x(x), place.y(y), r * 2.2, 0, 7);
    ctx.stroke();
  });
}

/** Where the target is shown in several filters, the name of each at its first point from `left`
 * on: under a red lamp no colour tells them apart. */
export function namesOf(
  marks: readonly Marks[],
  left: number,
): { words: string; x: number; y: number; tone: string }[] {
  const found = new Map<string, { words: string; x: number; y: number; tone: string }>();
  for (const one of marks) {
    if (one.role !== "target") continue;
    one.x.forEach((x, i) => {
      const y = one.y[i];
      const known = found.get(one.filter);
      if (y == null || x < left || (known && known.x <= x)) return;
      found.set(one.filter, { words: one.filter, x, y, tone: filterColour(one.filter) });
    });
  }
  return found.size > 1 ? [...found.values()] : [];
}

const CROWDED = 1500;
const CELLS = 1 << 14;

/** Of many marks those that show: whether none was drawn yet within a cell of the same place. A
 * long campaign has more points than the screen has pixels. */
function unseen(marks: Marks, cell: number): (x: number, y: number, to?: number) => boolean {
  if (marks.x.length < CROWDED) return () => true;
  const known = new Set<number>();
  return (x, y, to = y) => {
    const key =
      (Math.round(x / cell) * CELLS + Math.round(y / cell)) * CELLS + Math.round((to - y) / cell);
    if (known.has(key)) return false;
    known.add(key);
    return true;
  };
}

/** A line with a stem towards the faint: the star was below. */
function drawLimits(ctx: CanvasRenderingContext2D, place: Place, marks: Marks, tone: string): void {
  if (!marks.limit.some((v) => v != null)) return;
  const r = 3.2 * place.ratio;
  ctx.strokeStyle = tone;
  ctx.beginPath();
  marks.limit.forEach((limit, i) => {
    if (limit == null) return;
    const [x, y] = [place.x(marks.x[i]!), place.y(limit)];
    ctx.moveTo(x - r, y);
    ctx.lineTo(x + r, y);
    ctx.moveTo(x, y);
    ctx.lineTo(x, y + 2.4 * r);
  });
  ctx.stroke();
}

/** The same shapes as on the plate: lozenge, square, triangle. */
export function shape(
  ctx: CanvasRenderingContext2D,
  role: Role,
  x: number,
  y: number,
  r: number,
): void {
  ctx.beginPath();
  trace(ctx, role, x, y, r);
}

/** Closed by a line: thousands of `closePath` in one path take a tenth of a second. */
function trace(ctx: CanvasRenderingContext2D, role: Role, x: number, y: number, r: number): void {
  if (role === "target") {
    ctx.moveTo(x, y - r * 1.25);
    ctx.lineTo(x + r * 1.25, y);
    ctx.lineTo(x, y + r * 1.25);
    ctx.lineTo(x - r * 1.25, y);
    ctx.lineTo(x, y - r * 1.25);
  } else if (role === "check") {
    ctx.moveTo(x, y - r * 1.3);
    ctx.lineTo(x + r * 1.2, y + r * 0.8);
    ctx.lineTo(x - r * 1.2, y + r * 0.8);
    ctx.lineTo(x, y - r * 1.3);
  } else {
    ctx.rect(x - r * 0.85, y - r * 0.85, 1.7 * r, 1.7 * r);
  }
}

export interface Hit {
  id: number;
  marks: Marks;
  index: number;
}

/** The mark nearest to a place in CSS pixels of the chart, within some pixels. */
export function hitAt(
  all: readonly Marks[],
  toX: (v: number) => number,
  toY: (v: number) => number,
  x: number,
  y: number,
  within = 10,
): Hit | null {
  let best: Hit | null = null;
  let distance = within;
  for (const marks of all)
    marks.x.forEach((value, index) => {
      const m = marks.y[index] ?? marks.limit[index];
      if (m == null) return;
      const away = Math.hypot(toX(value) - x, toY(m) - y);
      if (away < distance) {
        distance = away;
        best = { id: marks.ids[index]!, marks, index };
      }
    });
  return best;
}

/** Whether a point lies inside of a drawn loop (even-odd rule). */
export function inside(loop: readonly [number, number][], x: number, y: number): boolean {
  let odd = false;
  for (let i = 0, j = loop.length - 1; i < loop.length; j = i++) {
    const [xi, yi] = loop[i]!;
    const [xj, yj] = loop[j]!;
    if (yi > y !== yj > y && x < ((xj - xi) * (y - yi)) / (yj - yi) + xi) odd = !odd;
  }
  return odd;
}

/** Phase of a moment, 0 to 1. */
export function phaseOf(jd: number, epoch: number, period: number): number {
  const turns = (jd - epoch) / period;
  return turns - Math.floor(turns);
}
