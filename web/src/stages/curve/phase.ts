import { extent } from "../../charts/extent";
import type { FilterCurve, SeriesOf } from "../../api/types";
import { phaseOf, type Marks } from "../../charts/marks";
import { momentOf } from "../../rail/timeline";

type Elements = SeriesOf["elements"][number];

/** When phase 0 is: of the elements in force, else the first minimum seen, else the first point. */
export function epochOf(
  series: SeriesOf | undefined,
  filters: readonly FilterCurve[],
): { bjd: number; kind: "minimum" | "maximum" | "first point" } {
  const chosen = inForce(series);
  if (chosen) return { bjd: chosen.epoch_bjd, kind: chosen.kind };
  const turn = series?.turns.find(
    (t) => t.kind === "minimum" && t.complete && t.filter === "" && t.source === "",
  );
  if (turn) return { bjd: turn.bjd, kind: "minimum" };
  return { bjd: filters[0]?.bjd_tdb[0] ?? 0, kind: "first point" };
}

export function inForce(series: SeriesOf | undefined): Elements | null {
  return series?.chosen == null ? null : (series.elements[series.chosen] ?? null);
}

/** The same points over phase, a quarter of the cycle repeated at either side; later cycles are
 * stronger, so that one tells them from earlier ones. */
export function foldMarks(
  marks: readonly Marks[],
  filters: readonly FilterCurve[],
  period: number,
  epoch: number,
): Marks[] {
  return marks.flatMap((m) => {
    const curve = filters.find((f) => f.filter === m.filter)!;
    const cycles = curve.bjd_tdb.map((jd) => Math.floor((jd - epoch) / period));
    const names = [...new Set(cycles)].sort((a, b) => a - b);
    // Few shades can be told apart: cycles are taken together where there are more.
    const shade = (cycle: number) =>
      names.length < 2
        ? 1
        : 0.45 +
          (0.55 * Math.floor((4 * names.indexOf(cycle)) / Math.max(names.length - 1, 1))) / 4;
    const shades = [...new Set(names.map(shade))];
    return shades.map((strength) => {
      const rows = curve.bjd_tdb.flatMap((jd, i) => {
        if (shade(cycles[i]!) !== strength) return [];
        const phase = phaseOf(jd, epoch, period);
        return [phase - 1, phase, phase + 1]
          .filter((p) => p >= -0.25 && p <= 1.25)
          .map((p) => ({ p, i }));
      });
      return {
        ...m,
        strength,
        ids: rows.map(({ i }) => m.ids[i]!),
        x: rows.map(({ p }) => p),
        y: rows.map(({ i }) => m.y[i]!),
        sigma: rows.map(({ i }) => m.sigma[i]!),
        words: rows.map(({ i }) => m.words[i]!),
        doubtful: rows.map(({ i }) => m.doubtful[i]!),
        limit: rows.map(({ i }) => m.limit[i]!),
      };
    });
  });
}

/** Means over equal stretches of x, weighted by uncertainty; theirs is the larger of what the
 * points say and what these scatter by. Doubtful points and limits take no part. */
export function binned(marks: readonly Marks[], width: number): Marks[] {
  const groups = new Map<string, Marks[]>();
  for (const m of marks) {
    const key = `${m.key}\n${m.filter}`;
    groups.set(key, [...(groups.get(key) ?? []), m]);
  }
  return [...groups.values()].map((parts) => {
    const bins = new Map<number, { x: number; y: number; s: number; id: number }[]>();
    for (const m of parts)
      m.x.forEach((x, i) => {
        const [y, s] = [m.y[i], m.sigma[i]];
        if (y == null || s == null || s <= 0 || m.doubtful[i]) return;
        const at = Math.floor(x / width);
        const list = bins.get(at) ?? [];
        list.push({ x, y, s, id: m.ids[i]! });
        bins.set(at, list);
      });
    const rows = [...bins.entries()].sort(([a], [b]) => a - b).map(([, list]) => mean(list));
    return {
      ...parts[0]!,
      strength: 1,
      ids: rows.map((r) => r.id),
      x: rows.map((r) => r.x),
      y: rows.map((r) => r.y),
      sigma: rows.map((r) => r.s),
      words: rows.map((r) => (r.count > 1 ? `mean of ${r.count}` : "")),
      doubtful: rows.map(() => false),
      limit: rows.map(() => null),
    };
  });
}

function mean(list: readonly { x: number; y: number; s: number; id: number }[]) {
  let [w, wy, wx] = [0, 0, 0];
  for (const p of list) {
    const weight = 1 / (p.s * p.s);
    w += weight;
    wy += weight * p.y;
    wx += weight * p.x;
  }
  const y = wy / w;
  const chi2 = list.reduce((sum, p) => sum + ((p.y - y) / p.s) ** 2, 0);
  const wider = list.length > 2 ? Math.max(1, chi2 / (list.length - 1)) : 1;
  return { x: wx / w, y, s: Math.sqrt(wider / w), id: list[0]!.id, count: list.length };
}

const dateOfJd = (jd: number) => momentOf(jd).toISOString().slice(0, 10);
/** 0h UT of a calendar day as a Julian date. */
const dayBegins = (day: string) => Date.parse(day) / 86400000 + 2440587.5;

/** Night above night on one axis of hours, from 0h UT of the evening's date; each row `step` below
 * the one before. `evenings` are the dates of exposures' evenings at the site. */
export function stackNights(
  marks: readonly Marks[],
  filters: readonly FilterCurve[],
  evenings: ReadonlyMap<number, string>,
): { marks: Marks[]; nights: string[]; rows: number[]; x: [number, number]; step: number } {
  const eveningOf = (f: FilterCurve, i: number) =>
    evenings.get(f.file_ids[i]!) ?? dateOfJd(Math.floor(f.jd_utc[i]!));
  const nights = [
    ...new Set(filters.flatMap((f) => f.jd_utc.map((_, i) => eveningOf(f, i)))),
  ].sort();
  const places = new Map(nights.map((night, n) => [night, n]));
  const begins = nights.map(dayBegins);
  const known = marks.flatMap((m) => m.y.filter((v): v is number => v != null));
  const sorted = [...known].sort((a, b) => a - b);
  const low = sorted[Math.floor(0.02 * sorted.length)] ?? 0;
  const high = sorted[Math.floor(0.98 * (sorted.length - 1))] ?? 1;
  const step = Math.max(0.05, Math.ceil((1.15 * (high - low)) / 0.05) * 0.05);
  const stacked = marks.map((m) => {
    const curve = filters.find((f) => f.filter === m.filter)!;
    const row = curve.jd_utc.map((_, i) => places.get(eveningOf(curve, i))!);
    return {
      ...m,
      x: curve.jd_utc.map((jd, i) => (jd - begins[row[i]!]!) * 24),
      y: m.y.map((v, i) => (v == null ? null : v + row[i]! * step)),
      limit: m.limit.map(() => null),
    };
  });
  const [begin, end] = extent(stacked.flatMap((m) => m.x));
  const middle = sorted[sorted.length >> 1] ?? 0;
  return {
    marks: stacked,
    nights,
    rows: nights.map((_, n) => middle + n * step),
    x: [begin - 0.2, end + 0.2],
    step,
  };
}
