/** A ledger as text, and what its filter keeps. */

export interface LedgerColumn<Row> {
  key: string;
  words: string;
  unit?: string;
  digits?: number;
  value: (row: Row) => string | number | null;
  /** Pixels of its width. */
  wide?: number;
  /** Not shown until it is asked for. */
  hidden?: boolean;
}

export function cellText<Row>(column: LedgerColumn<Row>, row: Row): string {
  const value = column.value(row);
  if (value === null) return "";
  if (typeof value === "string") return value;
  return (column.digits === undefined ? String(value) : value.toFixed(column.digits)).replace(
    "-",
    "−",
  );
}

const NUMBER_TEST = /^(.+?)\s*([<>])\s*([-−]?[\d.,]+)$/;

/**
 * Whether a filter keeps a row: words that it has anywhere, or a comparison of a column by name,
 * such as "star width > 4"; several are joined by commas, and all must hold.
 */
export function keeps<Row>(
  filter: string,
  columns: readonly LedgerColumn<Row>[],
  row: Row,
): boolean {
  return filter
    .split(/,\s+|,$/)
    .map((part) => part.trim())
    .filter(Boolean)
    .every((part) => {
      const test = NUMBER_TEST.exec(part);
      const column = test && columns.find((c) => c.words.startsWith(test[1]!.toLowerCase()));
      if (test && column) {
        const value = column.value(row);
        const bound = Number(test[3]!.replace("−", "-").replace(",", "."));
        if (typeof value !== "number") return false;
        return test[2] === ">" ? value > bound : value < bound;
      }
      const wanted = part.toLowerCase();
      return columns.some((c) => cellText(c, row).toLowerCase().includes(wanted));
    });
}

/** Rows as text, with a line of headings; cells that hold the separator are quoted. */
export function asText<Row>(
  columns: readonly LedgerColumn<Row>[],
  rows: readonly Row[],
  separator: "," | "\t",
): string {
  const quoted = (text: string) =>
    text.includes(separator) || /["\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  const heading = columns.map((c) => quoted(c.unit ? `${c.words} (${c.unit})` : c.words));
  const lines = rows.map((row) =>
    columns.map((c) => {
      const value = c.value(row);
      return quoted(value === null ? "" : String(value));
    }),
  );
  return [heading, ...lines].map((cells) => cells.join(separator)).join("\n") + "\n";
}
