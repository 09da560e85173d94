import type { Exposure, ExposureColumns, Exposures, Intake, IntakeColumns } from "./types";

type Columns = ExposureColumns["columns"];

/** The Julian date of 1970. */
const UNIX_JD = 2440587.5;
const DAY_MS = 86_400_000;

function valueAt(column: Columns[string]): (row: number) => unknown {
  if (Array.isArray(column)) return (row) => column[row];
  if ("all" in column) return () => column.all;
  const { words, at } = column;
  return (row) => words[at[row] ?? 0];
}

/** A table that came a column at a time, as rows. */
function rowsOf(columns: Columns, count: number): Record<string, unknown>[] {
  const read = Object.entries(columns).map(([name, column]) => [name, valueAt(column)] as const);
  return Array.from({ length: count }, (_, row) => {
    const found: Record<string, unknown> = {};
    for (const [name, value] of read) found[name] = value(row);
    return found;
  });
}

export function exposuresOf(told: ExposureColumns): Exposures {
  const { columns, count, ...rest } = told;
  const exposures = rowsOf(columns, count).map((found) => {
    const moment = new Date(((found.jd_utc as number) - UNIX_JD) * DAY_MS);
    found.mid_utc = moment.toISOString().slice(0, -1);
    return found as Exposure;
  });
  return { exposures, ...rest };
}

export function intakeOf({ columns, count, ...rest }: IntakeColumns): Intake {
  return { files: rowsOf(columns, count) as Intake["files"], ...rest };
}
