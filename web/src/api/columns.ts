import type { Exposure, ExposureColumns, Exposures } from "./types";

type Column = ExposureColumns["columns"][string];

/** The Julian date of 1970. */
const UNIX_JD = 2440587.5;
const DAY_MS = 86_400_000;

function valueAt(column: Column): (row: number) => unknown {
  if (Array.isArray(column)) return (row) => column[row];
  if ("all" in column) return () => column.all;
  const { words, at } = column;
  return (row) => words[at[row] ?? 0];
}

/** Exposures that came a column at a time, as rows. */
export function rowsOf(told: ExposureColumns): Exposures {
  const read = Object.entries(told.columns).map(
    ([name, column]) => [name, valueAt(column)] as const,
  );
  const exposures = Array.from({ length: told.count }, (_, row) => {
    const found: Record<string, unknown> = {};
    for (const [name, value] of read) found[name] = value(row);
    const moment = new Date(((found.jd_utc as number) - UNIX_JD) * DAY_MS);
    found.mid_utc = moment.toISOString().slice(0, -1);
    return found as Exposure;
  });
  const { reference, reference_words, parts } = told;
  return { exposures, reference, reference_words, parts };
}
