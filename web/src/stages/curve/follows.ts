import type { Exposure, FilterCurve } from "../../api/types";
import { extent } from "../../charts/extent";

/** How a check star's magnitudes hang on something: a slope that should be none. */
export interface Follows {
  what: string;
  filter: string;
  /** Mmag from the lowest to the highest, its uncertainty, and their ratio. */
  mmag: number;
  error: number;
  sure: number;
}

/** A night's mean of the check star from that of all nights, in mmag. */
export interface Offset {
  night: string;
  filter: string;
  mmag: number;
  error: number;
  points: number;
}

const LEAST = 8;

interface Measure {
  /** The number of its night. */
  night: number;
  value: number;
  sigma: number;
  airmass: number | null;
  width: number | null;
  sky: number | null;
  drift: number | null;
}

function measures(curve: FilterCurve, exposures: ReadonlyMap<number, Exposure>): Measure[] {
  const check = curve.series.find((s) => s.role === "check");
  if (!check) return [];
  const doubtful = new Set(check.doubtful);
  const found: Measure[] = [];
  curve.file_ids.forEach((id, i) => {
    const [m, s] = [check.magnitude[i], check.uncertainty[i]];
    const e = exposures.get(id);
    if (m == null || s == null || s <= 0 || doubtful.has(i) || !e) return;
    found.push({
      night: e.night,
      value: m,
      sigma: s,
      airmass: curve.airmass[i] ?? null,
      width: e.fwhm_px,
      sky: e.sky_adu_per_px,
      drift: e.drift_px,
    });
  });
  return found;
}

/** A weighted straight line's change over the range of x, its uncertainty as the points scatter. */
export function change(
  points: readonly { x: number; y: number; sigma: number }[],
): { change: number; error: number } | null {
  if (points.length < LEAST) return null;
  let [w, wx, wy] = [0, 0, 0];
  for (const p of points) {
    const weight = 1 / (p.sigma * p.sigma);
    w += weight;
    wx += weight * p.x;
    wy += weight * p.y;
  }
  const [mx, my] = [wx / w, wy / w];
  let [xx, xy] = [0, 0];
  for (const p of points) {
    const weight = 1 / (p.sigma * p.sigma);
    xx += weight * (p.x - mx) ** 2;
    xy += weight * (p.x - mx) * (p.y - my);
  }
  const [low, high] = extent(points.map((p) => p.x));
  const range = high - low;
  if (!(xx > 0) || !(range > 0)) return null;
  const slope = xy / xx;
  const chi2 = points.reduce((sum, p) => sum + ((p.y - my - slope * (p.x - mx)) / p.sigma) ** 2, 0);
  const wider = Math.max(1, chi2 / (points.length - 2));
  return { change: slope * range, error: Math.sqrt(wider / xx) * range };
}

const OF = [
  ["airmass", "airmass"],
  ["width", "star width"],
  ["sky", "sky level"],
  ["drift", "place on the sensor"],
] as const;

/** What the check stars follow, surest first. */
export function followed(
  curves: readonly FilterCurve[],
  exposures: ReadonlyMap<number, Exposure>,
): Follows[] {
  return curves
    .flatMap((curve) => {
      const all = measures(curve, exposures);
      return OF.flatMap(([key, what]) => {
        const points = all.flatMap((m) => {
          const x = m[key];
          return x == null ? [] : [{ x, y: m.value, sigma: m.sigma }];
        });
        const found = change(points);
        if (!found) return [];
        const { change: mag, error } = found;
        return [
          {
            what,
            filter: curve.filter,
            mmag: 1000 * mag,
            error: 1000 * error,
            sure: Math.abs(mag) / error,
          },
        ];
      });
    })
    .sort((a, b) => b.sure - a.sure);
}

/** Each night's check star beside its mean of all nights; `evenings` are nights' dates. */
export function nightOffsets(
  curves: readonly FilterCurve[],
  exposures: ReadonlyMap<number, Exposure>,
  evenings: ReadonlyMap<number, string>,
): Offset[] {
  return curves.flatMap((curve) => {
    const all = measures(curve, exposures);
    const mean = (some: readonly Measure[]) => {
      const w = some.reduce((sum, m) => sum + 1 / m.sigma ** 2, 0);
      const value = some.reduce((sum, m) => sum + m.value / m.sigma ** 2, 0) / w;
      const chi2 = some.reduce((sum, m) => sum + ((m.value - value) / m.sigma) ** 2, 0);
      const wider = some.length > 2 ? Math.max(1, chi2 / (some.length - 1)) : 1;
      return { value, error: Math.sqrt(wider / w) };
    };
    const nights = new Map<number, Measure[]>();
    for (const m of all) {
      const own = nights.get(m.night);
      if (own) own.push(m);
      else nights.set(m.night, [m]);
    }
    if (nights.size < 2) return [];
    const middle = mean(all).value;
    const named = [...nights].map(([night, own]) => ({ night: evenings.get(night) ?? "", own }));
    named.sort((one, other) => one.night.localeCompare(other.night));
    return named.map(({ night, own }) => {
      const { value, error } = mean(own);
      return {
        night,
        filter: curve.filter,
        mmag: 1000 * (value - middle),
        error: 1000 * error,
        points: own.length,
      };
    });
  });
}
