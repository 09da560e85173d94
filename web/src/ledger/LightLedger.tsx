import { useMemo } from "react";
import { useCampaign, useExposures, useLight } from "../api/queries";
import type { Exposure, StarLight } from "../api/types";
import { useApp } from "../state";
import { shortName, stampUtc } from "../ui/words";
import { Empty } from "../ui/parts";
import { Ledger } from "./Ledger";
import type { LedgerColumn } from "./table";

type Row = StarLight["measures"][number] & { exposure: Exposure | undefined };

export const LIGHT_COLUMNS: LedgerColumn<Row>[] = [
  { key: "name", words: "exposure", value: (r) => shortName(r.exposure?.name ?? ""), wide: 150 },
  { key: "time", words: "UT", value: (r) => (r.exposure ? stampUtc(r.exposure.mid_utc) : ""), wide: 150 },
  { key: "filter", words: "filter", value: (r) => r.filter, wide: 52 },
  { key: "counts", words: "counts", unit: "ADU", digits: 0, value: (r) => r.counts_adu, wide: 100 },
  { key: "snr", words: "signal to noise", digits: 0, value: (r) => r.snr, wide: 112 },
  { key: "instrumental", words: "instrumental", unit: "mag", digits: 4, value: (r) => r.instrumental, wide: 128 },
  { key: "magnitude", words: "magnitude", digits: 4, value: (r) => r.magnitude, wide: 92 },
  { key: "sigma", words: "±", digits: 4, value: (r) => r.uncertainty, wide: 70 },
  { key: "sky", words: "sky", unit: "ADU", digits: 1, value: (r) => r.sky_adu_per_px, wide: 84 },
  { key: "peak", words: "peak", unit: "ADU", digits: 0, value: (r) => r.peak_adu, wide: 92 },
  { key: "width", words: "star width", unit: "px", digits: 2, value: (r) => r.exposure?.fwhm_px ?? null, wide: 106 },
  { key: "x", words: "x", unit: "px", digits: 1, value: (r) => r.x_px, wide: 72 },
  { key: "y", words: "y", unit: "px", digits: 1, value: (r) => r.y_px, wide: 72 },
  { key: "radius", words: "aperture", unit: "px", digits: 2, value: (r) => r.radius_px, wide: 96, hidden: true },
  { key: "state", words: "state", value: (r) => (r.exposure?.aside_by ? "set aside" : ""), wide: 84 },
  { key: "flags", words: "flags", value: (r) => r.flags, wide: 220 },
]; // prettier-ignore

/** One star, exposure by exposure: the chosen one, else the target. */
export function LightLedger() {
  const s = useApp();
  const { data: campaign } = useCampaign(s.campaign);
  const { data: exposures } = useExposures(s.campaign);
  const { data, isLoading } = useLight(s.campaign, s.star ?? campaign?.cast?.target ?? null);
  const rows = useMemo(() => {
    const of = new Map(exposures?.exposures.map((e) => [e.id, e]));
    return (data?.measures ?? [])
      .filter((m) => !s.filter || m.filter === s.filter)
      .map((m): Row => ({ ...m, exposure: of.get(m.file) }));
  }, [data, exposures, s.filter]);
  const chosen = useMemo(() => new Set(s.selection), [s.selection]);
  if (isLoading) return <Empty title="Reading the star …">{null}</Empty>;
  if (!data?.measures.length)
    return (
      <Empty title="Nothing measured yet">
        <p>Measure the night; then choose a star in Cast, and it stands here by exposures.</p>
      </Empty>
    );
  return (
    <Ledger
      key={data.row}
      name={data.name}
      noun="measure"
      columns={LIGHT_COLUMNS}
      rows={rows}
      idOf={(r) => r.file}
      current={s.beam}
      chosen={chosen}
      onChoose={(ids, beam) => s.set({ selection: ids, beam })}
      tone={(r) => (r.exposure?.aside_by ? "opacity-60" : r.flags ? "text-beam" : "")}
    />
  );
}
