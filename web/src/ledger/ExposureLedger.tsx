import { useMemo } from "react";
import { useExposures } from "../api/queries";
import type { Exposure } from "../api/types";
import { QUALITIES } from "../rail/qualities";
import { useApp, type Quality } from "../state";
import { shortName, stampUtc } from "../ui/words";
import { Ledger } from "./Ledger";
import type { LedgerColumn } from "./table";

const HIDDEN: Quality[] = ["slope", "saturated", "turn_deg", "scale_ppm", "zero_point", "noise"];

export function stateOf(e: Exposure): string {
  if (e.trouble) return "can't be used";
  if (e.aside_by) return "set aside";
  if (e.proposal) return "proposed";
  return e.measured ? "measured" : e.placed ? "placed" : "";
}

export const EXPOSURE_COLUMNS: LedgerColumn<Exposure>[] = [
  { key: "name", words: "exposure", value: (e) => shortName(e.name), wide: 150 },
  { key: "time", words: "UT", value: (e) => stampUtc(e.mid_utc), wide: 150 },
  { key: "filter", words: "filter", value: (e) => e.filter, wide: 52 },
  { key: "exposure_s", words: "time", unit: "s", digits: 0, value: (e) => e.exposure_s, wide: 60 },
  ...(Object.keys(QUALITIES) as Quality[]).map((key) => ({
    key,
    words: QUALITIES[key].words,
    unit: QUALITIES[key].unit,
    digits: QUALITIES[key].digits,
    value: (e: Exposure) => e[key],
    wide: 92,
    hidden: HIDDEN.includes(key),
  })),
  { key: "state", words: "state", value: stateOf, wide: 84 },
  { key: "reason", words: "reason", value: (e) => e.trouble || e.aside || e.proposal, wide: 320 },
  { key: "match", words: "on the reference", value: (e) => e.match, wide: 300, hidden: true },
];

/** The exposures of Vet and Place as a table. */
export function ExposureLedger() {
  const s = useApp();
  const { data } = useExposures(s.campaign);
  const exposures = useMemo(
    () => (data?.exposures ?? []).filter((e) => !s.filter || e.filter === s.filter),
    [data, s.filter],
  );
  const chosen = useMemo(() => new Set(s.selection), [s.selection]);
  return (
    <Ledger
      name="exposures"
      noun="exposure"
      columns={EXPOSURE_COLUMNS}
      rows={exposures}
      idOf={(e) => e.id}
      current={s.beam}
      chosen={chosen}
      onChoose={(ids, beam) => s.set({ selection: ids, beam, master: null })}
      tone={(e) => (e.aside_by || e.trouble ? "opacity-60" : "")}
    />
  );
}
