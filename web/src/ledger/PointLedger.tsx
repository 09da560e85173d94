import { useMemo } from "react";
import { useCurve, useExposures } from "../api/queries";
import type { Curve, Exposure } from "../api/types";
import { useApp } from "../state";
import { shortName, stampUtc } from "../ui/words";
import { Empty } from "../ui/parts";
import { Ledger } from "./Ledger";
import type { LedgerColumn } from "./table";

export interface PointRow {
  id: number;
  name: string;
  time: string;
  filter: string;
  jd: number;
  bjd: number;
  airmass: number | null;
  magnitude: number | null;
  uncertainty: number | null;
  standard: number | null;
  standardUncertainty: number | null;
  colour: number | null;
  check: number | null;
  zeroPoint: number | null;
  light: number | null;
  state: string;
  flags: string;
  limit: number | null;
}

export const POINT_COLUMNS: LedgerColumn<PointRow>[] = [
  { key: "name", words: "exposure", value: (p) => p.name, wide: 150 },
  { key: "time", words: "UT", value: (p) => p.time, wide: 150 },
  { key: "filter", words: "filter", value: (p) => p.filter, wide: 52 },
  { key: "jd", words: "JD (UTC)", digits: 5, value: (p) => p.jd, wide: 124, hidden: true },
  { key: "bjd", words: "BJD (TDB)", digits: 5, value: (p) => p.bjd, wide: 124 },
  { key: "magnitude", words: "magnitude", digits: 4, value: (p) => p.magnitude, wide: 92 },
  { key: "uncertainty", words: "±", digits: 4, value: (p) => p.uncertainty, wide: 70 },
  { key: "standard", words: "standard", digits: 4, value: (p) => p.standard, wide: 88 },
  { key: "its", words: "its ±", digits: 4, value: (p) => p.standardUncertainty, wide: 70 },
  { key: "colour", words: "colour", digits: 3, value: (p) => p.colour, wide: 70 },
  { key: "check", words: "check", digits: 4, value: (p) => p.check, wide: 84 },
  { key: "airmass", words: "airmass", digits: 3, value: (p) => p.airmass, wide: 76 },
  { key: "zero", words: "zero point", digits: 3, value: (p) => p.zeroPoint, wide: 92, hidden: true },
  { key: "light", words: "light", unit: "%", digits: 0, value: (p) => (p.light === null ? null : 100 * p.light), wide: 72 },
  { key: "state", words: "state", value: (p) => p.state, wide: 84 },
  { key: "flags", words: "flags", value: (p) => p.flags, wide: 260 },
  { key: "limit", words: "fainter than", digits: 2, value: (p) => p.limit, wide: 104, hidden: true },
]; // prettier-ignore

/** The curve's points in order of time. */
export function pointRows(curve: Curve | undefined, exposures: readonly Exposure[]): PointRow[] {
  const of = new Map(exposures.map((e) => [e.id, e]));
  const rows = (curve?.filters ?? []).flatMap((f) => {
    const target = f.series.find((s) => s.role === "target");
    const check = f.series.find((s) => s.role === "check");
    const doubtful = new Set(target?.doubtful);
    return f.file_ids.map((id, i): PointRow => {
      const e = of.get(id);
      return {
        id,
        name: e ? shortName(e.name) : "",
        time: e ? stampUtc(e.mid_utc) : "",
        filter: f.filter,
        jd: f.jd_utc[i]!,
        bjd: f.bjd_tdb[i]!,
        airmass: f.airmass[i] ?? null,
        magnitude: target?.magnitude[i] ?? null,
        uncertainty: target?.uncertainty[i] ?? null,
        standard: f.standard?.magnitude[i] ?? null,
        standardUncertainty: f.standard?.uncertainty[i] ?? null,
        colour: f.standard?.colour[i] ?? null,
        check: check?.magnitude[i] ?? null,
        zeroPoint: f.zero_point[i] ?? null,
        light: f.transparency[i] ?? null,
        state: doubtful.has(i) ? "doubtful" : "good",
        flags: target?.flags[i] ?? "",
        limit: target?.limit[i] ?? null,
      };
    });
  });
  return rows.sort((a, b) => a.jd - b.jd);
}

/** The points of Curve as a table. */
export function PointLedger() {
  const s = useApp();
  const { data } = useCurve(s.campaign);
  const { data: exposures } = useExposures(s.campaign);
  const rows = useMemo(
    () =>
      pointRows(data, exposures?.exposures ?? []).filter((p) => !s.filter || p.filter === s.filter),
    [data, exposures, s.filter],
  );
  const chosen = useMemo(() => new Set(s.selection), [s.selection]);
  if (!rows.length)
    return (
      <Empty title="No points yet">
        <p>Measure the night, and every point of the curve stands here.</p>
      </Empty>
    );
  return (
    <Ledger
      name="points"
      noun="point"
      columns={POINT_COLUMNS}
      rows={rows}
      idOf={(p) => p.id}
      current={s.beam}
      chosen={chosen}
      onChoose={(ids, beam) => s.set({ selection: ids, beam })}
      tone={(p) => (p.state === "doubtful" ? "text-beam" : "")}
    />
  );
}
