import { timeOfDay } from "../charts/extent";
import { dayAndMonth } from "../ui/words";

/** The time axis of a campaign: nights side by side, the daytime between them cut out. */

export interface Moment {
  jd: number;
  night: number;
}

/** A stretch of time without long gaps; `offset` is where it begins on the axis, in hours. */
export interface Segment {
  night: number;
  start: number;
  end: number;
  offset: number;
}

export interface Timeline {
  segments: Segment[];
  hours: number;
}

export interface Tick {
  at: number;
  label: string;
  /** The first of a night carries its date. */
  date: string;
}

const GAP_H = 1.2;
const PAD_H = 0.1;
const JOINT_SHARE = 0.012;
const STEPS_MIN = [1, 2, 5, 10, 15, 30, 60, 120, 180];

export function timelineOf(moments: readonly Moment[]): Timeline {
  const sorted = [...moments].sort((a, b) => a.jd - b.jd);
  const runs: Segment[] = [];
  for (const { jd, night } of sorted) {
    const last = runs[runs.length - 1];
    if (last && last.night === night && (jd - last.end) * 24 < GAP_H) last.end = jd;
    else runs.push({ night, start: jd, end: jd, offset: 0 });
  }
  const pad = PAD_H / 24;
  let total = 0;
  for (const run of runs) {
    run.start -= pad;
    run.end += pad;
    total += (run.end - run.start) * 24;
  }
  const joint = total * JOINT_SHARE;
  let offset = 0;
  for (const run of runs) {
    run.offset = offset;
    offset += (run.end - run.start) * 24 + joint;
  }
  return { segments: runs, hours: Math.max(offset - joint, 1e-6) };
}

/** Where a moment is on the axis, in hours; moments in a gap are at the nearer edge. */
export function toAxis({ segments }: Timeline, jd: number): number {
  // The last stretch that has begun by then; with their padding, the one before may still go on.
  let [first, end] = [0, segments.length];
  while (end - first > 1) {
    const middle = (first + end) >> 1;
    if (segments[middle]!.start <= jd) first = middle;
    else end = middle;
  }
  let best = 0;
  let distance = Infinity;
  for (const s of segments.slice(Math.max(first - 1, 0), first + 2)) {
    const clamped = Math.min(Math.max(jd, s.start), s.end);
    const away = Math.abs(jd - clamped);
    if (away < distance) {
      distance = away;
      best = s.offset + (clamped - s.start) * 24;
    }
  }
  return best;
}

/** The moment at a place on the axis. */
export function toMoment(timeline: Timeline, hours: number): number {
  let best = timeline.segments[0];
  for (const s of timeline.segments) if (hours >= s.offset) best = s;
  if (!best) return 0;
  return Math.min(best.start + Math.max(hours - best.offset, 0) / 24, best.end);
}

/** Round times of day, or round Julian dates, for a domain that is `width` pixels wide. */
export function ticks(
  timeline: Timeline,
  domain: [number, number],
  width: number,
  clock: "ut" | "jd" = "ut",
): Tick[] {
  const perHour = width / (domain[1] - domain[0]);
  if (clock === "jd") return julian(timeline, domain, perHour);
  const step = STEPS_MIN.find((minutes) => (minutes / 60) * perHour >= 52) ?? 240;
  const found: Tick[] = [];
  let night = -1;
  for (const s of timeline.segments) {
    const stepDays = step / 1440;
    // Julian dates begin at noon; rounding is of the time of day.
    const first = Math.ceil((s.start - 0.5) / stepDays - 1e-6) * stepDays + 0.5;
    for (let jd = first; jd <= s.end; jd += stepDays) {
      const at = s.offset + (jd - s.start) * 24;
      if (at < domain[0] || at > domain[1]) continue;
      const date = s.night !== night ? dateOf(jd + 1e-6) : "";
      night = s.night;
      found.push({ at, label: timeLabel(jd, step < 60), date });
    }
  }
  return found;
}

export interface TickLabel {
  text: string;
  x: number;
  date: boolean;
}

const LABEL_GAP_PX = 8;

/**
 * The labels of ticks that have room: dates first, each as far left as it can be, then the hours
 * between them. None covers another, also where two nights meet.
 */
export function tickLabels(
  found: readonly Tick[],
  place: (at: number) => number,
  wide: (text: string) => number,
  left: number,
  right: number,
): TickLabel[] {
  const taken: [number, number][] = [];
  const labels: TickLabel[] = [];
  const put = (text: string, x: number, date: boolean) => {
    const half = wide(text) / 2 + LABEL_GAP_PX / 2;
    const at = date ? Math.min(Math.max(x, left + half), Math.max(right - half, left + half)) : x;
    if (at - half < left - LABEL_GAP_PX || at + half > right + LABEL_GAP_PX) return;
    if (taken.some(([from, to]) => at - half < to && at + half > from)) return;
    taken.push([at - half, at + half]);
    labels.push({ text, x: at, date });
  };
  for (const tick of found) if (tick.date) put(together(tick), place(tick.at), true);
  for (const tick of found) if (!tick.date) put(tick.label, place(tick.at), false);
  return labels;
}

/** A day with the time of day, or a Julian date as one number. */
const together = ({ date, label }: Tick) => `${date}${label.startsWith(".") ? "" : " "}${label}`;

export function momentOf(jd: number): Date {
  return new Date((jd - 2440587.5) * 86400_000);
}

const STEPS_D = [0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2];
const JD_LABEL_PX = 44;

function julian(timeline: Timeline, domain: [number, number], perHour: number): Tick[] {
  const step = STEPS_D.find((days) => days * 24 * perHour >= JD_LABEL_PX) ?? 0.5;
  const digits = Math.max(1, Math.ceil(-Math.log10(step) - 1e-9));
  const found: Tick[] = [];
  let day = NaN;
  for (const s of timeline.segments)
    for (let n = Math.ceil(s.start / step - 1e-6); n * step <= s.end; n++) {
      const jd = n * step;
      const at = s.offset + (jd - s.start) * 24;
      if (at < domain[0] || at > domain[1]) continue;
      const whole = Math.floor(jd + 1e-9);
      found.push({
        at,
        label: (jd - whole).toFixed(digits).replace(/^-?0/, ""),
        date: whole !== day ? `JD ${whole}` : "",
      });
      day = whole;
    }
  return found;
}

function timeLabel(jd: number, minutes: boolean): string {
  const told = timeOfDay(24 * ((jd + 0.5) % 1));
  return minutes ? told : `${told.slice(0, 2)}h`;
}

const dateOf = (jd: number) => dayAndMonth(momentOf(jd).toISOString());

/** The domain after zooming by a factor about a place, kept within the axis. */
export function zoomed(
  domain: [number, number],
  at: number,
  factor: number,
  hours: number,
): [number, number] {
  const span = Math.min(Math.max((domain[1] - domain[0]) * factor, 0.15), hours);
  const share = (at - domain[0]) / (domain[1] - domain[0]);
  const start = Math.min(Math.max(at - share * span, 0), hours - span);
  return [start, start + span];
}
