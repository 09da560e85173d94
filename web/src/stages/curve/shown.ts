import type { Curve, FilterCurve } from "../../api/types";
import type { Marks } from "../../charts/marks";
import { say } from "../../state";
import type { Magnitudes } from "./view";

type Series = FilterCurve["series"][number];

/** From row to row of the comparison stars. */
export const STACK_MAG = 0.06;

/** The middle of what is known, NaN of nothing. */
export function median(values: readonly (number | null)[]): number {
  // An array of plain numbers sorts itself many times faster than a list by a function.
  const known = Float64Array.from(values.filter((v): v is number => v !== null)).sort();
  return known[known.length >> 1] ?? NaN;
}

/** What is to be said of each point; limits only where magnitudes are shown as they are. */
function notes(s: Series, shifted: boolean): Pick<Marks, "words" | "doubtful" | "limit"> {
  const count = s.magnitude.length;
  const words = new Array<string>(count).fill("");
  const doubtful = new Array<boolean>(count).fill(false);
  const limit = new Array<number | null>(count).fill(null);
  // Few points have any, whatever their number.
  for (const [at, said] of Object.entries(s.flags)) words[Number(at)] = said;
  for (const at of s.doubtful) doubtful[at] = true;
  if (!shifted) for (const [at, most] of Object.entries(s.limit)) limit[Number(at)] = most;
  return { words, doubtful, limit };
}

/** Target or check stars of a filter; a check star from its mean, so that filters lie together, and
 * one check star below the other. */
export function marksOf(
  curve: FilterCurve,
  role: "target" | "check",
  hours: ReadonlyMap<number, number>,
  scale: Magnitudes,
): Marks[] {
  const standard = scale === "standard" && role === "target" ? curve.standard : null;
  const raw = scale === "raw" && role === "target";
  const index = scale === "colour" && role === "target" ? curve.standard : null;
  if (scale === "colour" && role === "target" && !index) return [];
  const x = curve.file_ids.map((id) => hours.get(id) ?? NaN);
  return curve.series
    .filter((s) => s.role === role)
    .map((s, n) => {
      const own = raw ? s.instrumental : s.magnitude;
      const values = index?.colour ?? standard?.magnitude ?? own;
      const middle = role === "check" ? median(values) - n * STACK_MAG : 0;
      return {
        key: s.name,
        role,
        filter: curve.filter,
        ids: curve.file_ids,
        x,
        y: values.map((v) => (v === null ? null : v - middle)),
        // A colour is as unsure as both magnitudes together, which are about alike.
        sigma:
          index?.uncertainty.map((v) => (v == null ? null : v * Math.SQRT2)) ??
          standard?.uncertainty ??
          s.uncertainty,
        ...notes(s, raw || index !== null || role === "check"),
      };
    });
}

/** The same, each filter about its own middle. */
export function aboutTheirMiddles(marks: readonly Marks[]): Marks[] {
  return marks.map((m) => {
    const middle = median(m.y);
    const less = (v: number | null) => (v == null ? null : v - middle);
    return { ...m, y: m.y.map(less), limit: m.limit.map(less) };
  });
}

/** Which magnitudes of the target are shown, in words. */
export function scaleWords(curves: readonly FilterCurve[], scale: Magnitudes): string {
  if (scale === "raw") return "instrumental";
  if (scale === "colour")
    return `colour index ${[...new Set(curves.flatMap((c) => c.standard?.index ?? []))].join(", ").replaceAll("-", " − ")}`;
  const on = curves.filter((c) => c.standard).map((c) => c.filter);
  if (scale === "own" || !on.length) return "differential, the instrument’s own colour scale";
  if (on.length === curves.length) return "standard scale";
  return `standard scale in ${on.join(", ")}, else the instrument’s own`;
}

/** The comparison stars of one filter, a row each, each about its mean. */
export function comparisonMarks(
  curve: FilterCurve | undefined,
  hours: ReadonlyMap<number, number>,
): { marks: Marks[]; rows: { words: string; y: number }[]; range: [number, number] } {
  const stars = curve?.series.filter((s) => s.role === "comparison") ?? [];
  const x = curve?.file_ids.map((id) => hours.get(id) ?? NaN) ?? [];
  const marks = stars.map((s, n): Marks => {
    const middle = median(s.magnitude);
    return {
      key: s.name,
      role: "comparison",
      filter: curve!.filter,
      ids: curve!.file_ids,
      x,
      y: s.magnitude.map((v) => (v === null ? null : v - middle + n * STACK_MAG)),
      sigma: s.uncertainty,
      ...notes(s, true),
    };
  });
  const rows = stars.map((s, n) => ({ words: `${n + 1} ${s.name}`, y: n * STACK_MAG }));
  return { marks, rows, range: [-0.05, (stars.length - 1) * STACK_MAG + 0.05] };
}

/** What doubtful points carry: each kind once, how often, and what it costs at the most in mmag. */
export function doubts(s: Series): { words: string; count: number; mmag: number }[] {
  const kinds = new Map<string, { count: number; mmag: number }>();
  for (const at of s.doubtful)
    for (const word of (s.flags[at] ?? "").split(", ")) {
      if (!word || word.startsWith("trend ")) continue; // no reason for doubt
      const [, kind, cost] = /^(.*?)(?: ([\d.]+) mmag)?$/.exec(word)!;
      const known = kinds.get(kind!) ?? { count: 0, mmag: 0 };
      kinds.set(kind!, {
        count: known.count + 1,
        mmag: Math.max(known.mmag, Number(cost ?? 0)),
      });
    }
  return [...kinds]
    .map(([words, found]) => ({ words, ...found }))
    .sort((a, b) => b.count - a.count);
}

export function tableOf(data: Curve): string {
  const lines = [
    [
      ...["filter", "jd_utc", "bjd_tdb", "magnitude", "uncertainty", "check_magnitude", "state"],
      ...["transformed_magnitude", "transformed_uncertainty", "limit_magnitude"],
    ].join("\t"),
  ];
  for (const f of data.filters) {
    const target = f.series.find((s) => s.role === "target");
    const check = f.series.find((s) => s.role === "check");
    f.jd_utc.forEach((jd, i) =>
      lines.push(
        [
          f.filter,
          jd.toFixed(6),
          f.bjd_tdb[i]!.toFixed(6),
          target?.magnitude[i] ?? "",
          target?.uncertainty[i] ?? "",
          check?.magnitude[i] ?? "",
          target?.doubtful.includes(i) ? "doubtful" : "good",
          f.standard?.magnitude[i] ?? "",
          f.standard?.uncertainty[i] ?? "",
          target?.limit[i] ?? "",
        ].join("\t"),
      ),
    );
  }
  return lines.join("\n");
}

export async function copyText(data: Curve): Promise<void> {
  try {
    await navigator.clipboard.writeText(tableOf(data));
    say("The points are on the clipboard, tab-separated.");
  } catch {
    say("The browser did not let the clipboard be used; export the report instead.", "trouble");
  }
}

/** Points beyond which turns are timed in their own view alone: it takes some seconds for each
 * thousand of them, with every change of a role. */
export const MOST_TIMED = 6000;
export const pointsOf = (filters: readonly FilterCurve[]) =>
  filters.reduce((sum, f) => sum + f.file_ids.length, 0);
