import type { FilterCurve, OtherCurves } from "../../api/types";
import { phaseOf } from "../../charts/marks";
import { toAxis, type Timeline } from "../../rail/timeline";

/** A place on a chart that can't be pointed at: of a curve from elsewhere. */
export interface Ghost {
  x: number;
  y: number;
}

const NEAR_D = 0.3;

function inFilters(
  others: OtherCurves | undefined,
  filters: readonly FilterCurve[],
): { t: number; m: number }[] {
  const names = new Set(filters.map((f) => f.filter));
  return (others?.curves ?? []).flatMap((curve) =>
    curve.t_d.flatMap((t, i) => {
      const name = curve.filter[i] ?? "";
      return name === "" || names.has(name) ? [{ t, m: curve.magnitude[i]! }] : [];
    }),
  );
}

/** On the rail's axis, as far as it reaches: times are taken for BJD. */
export function ghostsOverTime(
  others: OtherCurves | undefined,
  filters: readonly FilterCurve[],
  timeline: Timeline,
): Ghost[] {
  const curve = filters[0];
  if (!curve?.bjd_tdb.length) return [];
  const early = curve.bjd_tdb[0]! - curve.jd_utc[0]!;
  return inFilters(others, filters).flatMap(({ t, m }) => {
    const near = curve.bjd_tdb.some((bjd) => Math.abs(bjd - t) < NEAR_D);
    return near ? [{ x: toAxis(timeline, t - early), y: m }] : [];
  });
}

/** Over phase, a quarter of the cycle repeated at either side. */
export function ghostsOverPhase(
  others: OtherCurves | undefined,
  filters: readonly FilterCurve[],
  period: number,
  epoch: number,
): Ghost[] {
  if (!(period > 0)) return [];
  return inFilters(others, filters).flatMap(({ t, m }) => {
    const phase = phaseOf(t, epoch, period);
    return [phase - 1, phase, phase + 1]
      .filter((x) => x >= -0.25 && x <= 1.25)
      .map((x) => ({ x, y: m }));
  });
}
