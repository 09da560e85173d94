import { useMemo } from "react";
import { useCampaign, useField } from "../api/queries";
import type { Campaign, FieldStar } from "../api/types";
import { useApp } from "../state";
import { indexWords } from "../stages/measure/scale";
import { Empty } from "../ui/parts";
import { Ledger } from "./Ledger";
import type { LedgerColumn } from "./table";

export function partOf(campaign: Campaign | undefined, row: number): string {
  const cast = campaign?.cast;
  if (cast?.target === row) return "target";
  const check = cast?.checks.indexOf(row) ?? -1;
  if (check >= 0) return cast!.checks.length > 1 ? `check ${check + 1}` : "check";
  const at = cast?.comparison.indexOf(row) ?? -1;
  return at >= 0 ? `comparison ${at + 1}` : "";
}

const mmag = (value: number | null) => (value === null ? null : 1000 * value);

/** What can be said of each star as a comparison star, and of its light over the nights. */
export function starColumns(
  campaign: Campaign | undefined,
  index: string,
): LedgerColumn<FieldStar>[] {
  const colour = index ? indexWords(index) : "colour";
  return [
    { key: "name", words: "star", value: (s) => s.name, wide: 130 },
    { key: "part", words: "part", value: (s) => partOf(campaign, s.row), wide: 100 },
    { key: "score", words: "serves", unit: "/100", digits: 0, value: (s) => s.score, wide: 84 },
    { key: "magnitude", words: "measured", unit: "mag", digits: 3, value: (s) => s.magnitude, wide: 110 },
    { key: "off", words: "off line", unit: "mmag", digits: 0, value: (s) => mmag(s.off_mag), wide: 118 },
    { key: "colour", words: colour, digits: 2, value: (s) => s.colour, wide: 60 },
    { key: "fainter", words: "fainter", unit: "mag", digits: 2, value: (s) => s.fainter },
    { key: "redder", words: "redder", unit: "mag", digits: 2, value: (s) => s.redder },
    { key: "scatter", words: "scatter", unit: "mmag", digits: 1, value: (s) => mmag(s.scatter_mag), wide: 94 },
    { key: "times", words: "× expected", digits: 2, value: (s) => s.times, wide: 86 },
    { key: "away", words: "away", unit: "′", digits: 1, value: (s) => s.away_arcmin, wide: 64 },
    { key: "neighbour", words: "neighbours", unit: "mmag", digits: 1, value: (s) => mmag(s.neighbour_mag), wide: 116 },
    { key: "peak", words: "peak", unit: "% of limit", digits: 0, value: (s) => (s.peak_share === null ? null : 100 * s.peak_share), wide: 106 },
    { key: "edge", words: "to the edge", unit: "px", digits: 0, value: (s) => s.edge_px, wide: 98 },
    { key: "points", words: "points", digits: 0, value: (s) => s.points, wide: 64 },
    { key: "spoiled", words: "spoiled", unit: "%", digits: 0, value: (s) => (s.spoiled === null ? null : 100 * s.spoiled), wide: 78, hidden: true },
    { key: "catalogue", words: "catalogue", unit: "mag", digits: 3, value: (s) => s.catalogue_mag, wide: 104, hidden: true },
    { key: "unsure", words: "its ±", unit: "mmag", digits: 0, value: (s) => mmag(s.catalogue_uncertainty), hidden: true },
    { key: "expected", words: "expected", unit: "mmag", digits: 1, value: (s) => mmag(s.expected_mag), wide: 104, hidden: true },
    { key: "correlated", words: "common to runs", unit: "mmag", digits: 1, value: (s) => mmag(s.correlated_mag), wide: 140, hidden: true },
    { key: "alike", words: "like the next", digits: 2, value: (s) => s.alike, wide: 98, hidden: true },
    { key: "variable", words: "known to vary", value: (s) => (s.known_variable ? "yes" : ""), wide: 104, hidden: true },
    { key: "listed", words: "of the sequence", value: (s) => (s.listed ? "yes" : ""), wide: 116, hidden: true },
  ]; // prettier-ignore
}

/** Those with a part first, then the ones that would serve best. */
export function bestFirst(
  campaign: Campaign | undefined,
  stars: readonly FieldStar[],
): FieldStar[] {
  const first = (s: FieldStar) => (partOf(campaign, s.row) ? 1 : 0);
  return [...stars].sort((a, b) => first(b) - first(a) || b.score - a.score);
}

/** The stars of Cast as a table. */
export function StarLedger() {
  const s = useApp();
  const { data: campaign } = useCampaign(s.campaign);
  const { data } = useField(s.campaign, s.filter || campaign?.filters[0] || "");
  const columns = useMemo(() => starColumns(campaign, data?.index ?? ""), [campaign, data?.index]);
  const rows = useMemo(() => bestFirst(campaign, data?.stars ?? []), [campaign, data]);
  if (!data) return <Empty title="Reading all stars of the field …">{null}</Empty>;
  if (!data.stars.length)
    return (
      <Empty title="No stars measured yet">
        <p>Measure the night, and every star of the field stands here with its numbers.</p>
      </Empty>
    );
  return (
    <Ledger
      key={data.filter}
      name={`stars in ${data.filter}`}
      noun="star"
      columns={columns}
      rows={rows}
      idOf={(star) => star.row}
      current={s.star}
      chosen={NONE}
      onChoose={(_, star) => s.set({ star })}
      tone={(star) => (star.known_variable || (star.times ?? 0) > 3 ? "text-trouble" : "")}
    />
  );
}

const NONE: ReadonlySet<number> = new Set();
