import type { Curve, FilterCurve } from "../../api/types";
import { phaseOf, type Marks } from "../../charts/marks";
import { say } from "../../state";

/** From row to row of the comparison stars. */
export const STACK_MAG = 0.06;

function median(values: readonly (number | null)[]): number {
  const sorted = values.filter((v): v is number => v !== null).sort((a, b) => a - b);
  return sorted.length ? sorted[sorted.length >> 1]! : NaN;
}

/** Target or check star of a filter; a check star from its mean, so that filters lie together. */
export function marksOf(
  curve: FilterCurve,
  role: "target" | "check",
  hours: ReadonlyMap<number, number>,
  raw: boolean,
): Marks[] {
  return curve.series
    .filter((s) => s.role === role)
    .map((s) => {
      const values = raw && role === "target" ? s.instrumental : s.magnitude;
      const middle = role === "check" ? median(values) : 0;
      return {
        key: s.name,
        role,
        filter: curve.filter,
        ids: curve.file_ids,
        x: curve.file_ids.map((id) => hours.get(id) ?? NaN),
        y: values.map((v) => (v === null ? null : v - middle)),
        sigma: s.uncertainty,
        words: s.magnitude.map((_, i) => s.flags[i] ?? ""),
      };
    });
}

/** The comparison stars of one filter, a row each, each about its mean. */
export function comparisonMarks(
  curve: FilterCurve | undefined,
  hours: ReadonlyMap<number, number>,
): { marks: Marks[]; rows: { words: string; y: number }[]; range: [number, number] } {
  const stars = curve?.series.filter((s) => s.role === "comparison") ?? [];
  const marks = stars.map((s, n): Marks => {
    const middle = median(s.magnitude);
    return {
      key: s.name,
      role: "comparison",
      filter: curve!.filter,
      ids: curve!.file_ids,
      x: curve!.file_ids.map((id) => hours.get(id) ?? NaN),
      y: s.magnitude.map((v) => (v === null ? null : v - middle + n * STACK_MAG)),
      sigma: s.uncertainty,
      words: s.magnitude.map((_, i) => s.flags[i] ?? ""),
    };
  });
  const rows = stars.map((s, n) => ({ words: `${n + 1} ${s.name}`, y: n * STACK_MAG }));
  return { marks, rows, range: [-0.05, (stars.length - 1) * STACK_MAG + 0.05] };
}

/** The same points over phase; a quarter of the cycle is repeated at either side. */
export function foldMarks(
  marks: readonly Marks[],
  filters: readonly FilterCurve[],
  period: number,
): Marks[] {
  const epoch = filters[0]?.bjd_tdb[0] ?? 0;
  return marks.map((m) => {
    const curve = filters.find((f) => f.filter === m.filter)!;
    const rows = curve.bjd_tdb.flatMap((jd, i) => {
      const phase = phaseOf(jd, epoch, period);
      return [phase - 1, phase, phase + 1]
        .filter((p) => p >= -0.25 && p <= 1.25)
        .map((p) => ({ p, i }));
    });
    return {
      ...m,
      ids: rows.map(({ i }) => m.ids[i]!),
      x: rows.map(({ p }) => p),
      y: rows.map(({ i }) => m.y[i]!),
      sigma: rows.map(({ i }) => m.sigma[i]!),
      words: rows.map(({ i }) => m.words[i]!),
    };
  });
}

/** How often each flag, or set of flags, stands on a point; the most frequent first. */
export function flagCounts(flags: Readonly<Record<string, string>>): [string, number][] {
  const counts = new Map<string, number>();
  for (const words of Object.values(flags)) counts.set(words, (counts.get(words) ?? 0) + 1);
  return [...counts].sort((a, b) => b[1] - a[1]);
}

export function tableOf(data: Curve): string {
  const lines = ["filter\tjd_utc\tbjd_tdb\tmagnitude\tuncertainty\tcheck_magnitude"];
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
