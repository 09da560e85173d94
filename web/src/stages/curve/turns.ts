import type { FilterCurve, SeriesOf, Turn } from "../../api/types";
import { toAxis, type Timeline } from "../../rail/timeline";

/** Times that stand for themselves: all filters together, and those from elsewhere. */
export function wholeTurns(series: SeriesOf | undefined): Turn[] {
  return series?.turns.filter((t) => t.filter === "") ?? [];
}

/** A time with as many digits as its uncertainty deserves, and it. */
export function timeWords(bjd: number, uncertainty: number): string {
  const digits = Math.min(Math.max(1 - Math.floor(Math.log10(uncertainty)), 2), 6);
  return `${bjd.toFixed(digits)} ± ${uncertainty.toFixed(digits)}`;
}

/** O − C in the unit that suits it. */
export function departureWords(days: number): string {
  const seconds = days * 86400;
  if (Math.abs(seconds) < 600) return `${seconds < 0 ? "−" : "+"}${Math.abs(seconds).toFixed(0)} s`;
  const minutes = seconds / 60;
  return `${minutes < 0 ? "−" : "+"}${Math.abs(minutes).toFixed(1)} min`;
}

/** Cycle and O − C of times that have them, for the chart; minutes. */
export function departures(turns: readonly Turn[]): {
  turn: Turn;
  cycle: number;
  minutes: number;
  error: number;
}[] {
  return turns.flatMap((turn) =>
    turn.cycle == null || turn.o_minus_c_d == null
      ? []
      : [
          {
            turn,
            cycle: turn.cycle,
            minutes: turn.o_minus_c_d * 1440,
            error: turn.uncertainty_d * 1440,
          },
        ],
  );
}

/** Where times of minimum and maximum stand on the rail's axis, which is in UTC. */
export function pinsOf(
  series: SeriesOf | undefined,
  filters: readonly FilterCurve[],
  timeline: Timeline,
): { x: number; words: string }[] {
  const curve = filters[0];
  if (!curve?.bjd_tdb.length) return [];
  return wholeTurns(series).flatMap((turn) => {
    // Light travel and clock differ by minutes, alike for points near in time.
    let near = 0;
    curve.bjd_tdb.forEach((bjd, i) => {
      if (Math.abs(bjd - turn.bjd) < Math.abs(curve.bjd_tdb[near]! - turn.bjd)) near = i;
    });
    if (Math.abs(curve.bjd_tdb[near]! - turn.bjd) > 0.2) return [];
    const jd = turn.bjd - (curve.bjd_tdb[near]! - curve.jd_utc[near]!);
    return [{ x: toAxis(timeline, jd), words: turn.kind === "minimum" ? "min" : "max" }];
  });
}
