import type { Campaign, Catalogue, ImageInfo, MeasuredStars } from "../api/types";
import { declination, fixed, rightAscension } from "../ui/words";
import { skyOf } from "./sky";

export interface Pointed {
  x: number;
  y: number;
  value: number | null;
  east: number | null;
  north: number | null;
  row: number | null;
}

interface Props {
  pointed: Pointed | null;
  info: ImageInfo | null;
  /** Of the values; without one, a flat, relative to 1. */
  unit: string;
  pinned: number | null;
  campaign: Campaign | undefined;
  catalogue: Catalogue | undefined;
  measured: MeasuredStars | undefined;
}

/** What is under the pointer, in one or two lines at the foot of the plate. */
export function Readout({ pointed, info, unit, pinned, campaign, catalogue, measured }: Props) {
  const target = campaign?.target;
  const row = pointed?.row ?? pinned;
  const sky =
    pointed?.east != null &&
    pointed.north != null &&
    target?.ra_deg != null &&
    target.dec_deg != null
      ? skyOf(pointed.east, pointed.north, target.ra_deg, target.dec_deg)
      : null;
  if (!pointed && row === null) return null;
  // Places count on the raw file's pixels: behind its overscan, and for a colour on the full grid.
  const { first, step } = info ?? { first: [1, 1], step: 1 };
  return (
    <div className="pointer-events-none absolute bottom-2 left-2 max-w-[calc(100%-220px)] rounded-[3px] bg-ground/95 px-2 py-1">
      {row !== null && catalogue && (
        <StarLine row={row} campaign={campaign} catalogue={catalogue} measured={measured} />
      )}
      {pointed && (
        <p className="num text-quiet">
          x {fixed(first[0]! + step * pointed.x, 1)} y {fixed(first[1]! + step * pointed.y, 1)}
          {pointed.value !== null && (
            <span className="text-ink"> · {fixed(pointed.value, unit ? 1 : 4, unit)}</span>
          )}
          {sky && ` · ${rightAscension(sky.ra)}  ${declination(sky.dec)}`}
        </p>
      )}
    </div>
  );
}

function StarLine({
  row,
  campaign,
  catalogue,
  measured,
}: {
  row: number;
  campaign: Campaign | undefined;
  catalogue: Catalogue;
  measured: MeasuredStars | undefined;
}) {
  const i = catalogue.row.indexOf(row);
  if (i < 0) return null;
  const at = measured?.row.indexOf(row) ?? -1;
  const bands = Object.entries(catalogue.magnitudes)
    .map(([band, values]) => [band, values[i]] as const)
    .filter(([, m]) => m !== null && m !== undefined);
  const cast = campaign?.cast;
  const role =
    cast?.target === row
      ? "target"
      : cast?.checks.includes(row)
        ? `check star${cast.checks.length > 1 ? ` ${cast.checks.indexOf(row) + 1}` : ""}`
        : cast?.comparison.includes(row)
          ? `comparison ${cast.comparison.indexOf(row) + 1}`
          : "";
  const flags = at >= 0 ? measured!.flags[at] : "";
  return (
    <p>
      <strong className="font-semibold">{catalogue.name[i]}</strong>
      {role && <span className="text-beam"> {role}</span>}
      <span className="num">
        {bands.map(([band, m]) => ` · ${band} ${fixed(m, 2)}`)}
        {at >= 0 && ` · here ${fixed(measured!.magnitude[at], 3)}`}
        {at >= 0 && ` · S/N ${fixed(measured!.snr[at], 0)}`}
      </span>
      {catalogue.known_variable[i] && (
        <span className="text-quiet">
          {" "}
          · known to vary{catalogue.note[i] && `: ${catalogue.note[i]}`}
        </span>
      )}
      {flags && <span className="text-trouble"> · {flags}</span>}
    </p>
  );
}
