import {
  getCoreRowModel,
  getSortedRowModel,
  useReactTable,
  type ColumnDef,
  type SortingState,
  type VisibilityState,
} from "@tanstack/react-table";
import { useVirtualizer } from "@tanstack/react-virtual";
import { Popover } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import { say } from "../state";
import { Button } from "../ui/Button";
import { saveText } from "../ui/save";
import { plural } from "../ui/words";
import { asText, cellText, keeps, type LedgerColumn } from "./table";

const ROW_PX = 25;

interface Props<Row> {
  name: string;
  noun: string;
  columns: readonly LedgerColumn<Row>[];
  rows: readonly Row[];
  idOf: (row: Row) => number;
  /** The row that plate and rail show. */
  current: number | null;
  chosen: ReadonlySet<number>;
  onChoose: (ids: number[], current: number) => void;
  tone?: (row: Row) => string;
}

/** What is shown, as a table: sorted, filtered, with the columns that are asked for. */
export function Ledger<Row>({ columns, rows, idOf, ...props }: Props<Row>) {
  const [sorting, setSorting] = useState<SortingState>([]);
  const [hidden, setHidden] = useState<VisibilityState>(() =>
    Object.fromEntries(columns.map((c) => [c.key, !c.hidden])),
  );
  const [filter, setFilter] = useState("");
  const kept = useMemo(
    () => (filter ? rows.filter((row) => keeps(filter, columns, row)) : [...rows]),
    [rows, columns, filter],
  );
  const defs = useMemo<ColumnDef<Row>[]>(
    () =>
      columns.map((c) => ({
        id: c.key,
        accessorFn: (row) => c.value(row) ?? undefined,
        sortUndefined: "last",
      })),
    [columns],
  );
  const table = useReactTable({
    data: kept,
    columns: defs,
    state: { sorting, columnVisibility: hidden },
    onSortingChange: setSorting,
    onColumnVisibilityChange: setHidden,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
  });
  const shown = columns.filter((c) => hidden[c.key]);
  const { rows: inOrder } = table.getRowModel();
  const sorted = useMemo(() => inOrder.map((row) => row.original), [inOrder]);
  const frame = useRef<HTMLDivElement>(null);
  const last = useRef<number | null>(null);
  const virtual = useVirtualizer({
    count: sorted.length,
    getScrollElement: () => frame.current,
    estimateSize: () => ROW_PX,
    overscan: 12,
    scrollPaddingStart: ROW_PX + 8,
    scrollPaddingEnd: ROW_PX + 8,
  });
  const at = sorted.findIndex((row) => idOf(row) === props.current);
  useEffect(() => {
    if (at >= 0) virtual.scrollToIndex(at, { align: "auto" });
  }, [at, virtual]);

  function choose(
    n: number,
    event: { shiftKey: boolean; ctrlKey: boolean; metaKey: boolean },
  ): void {
    const id = idOf(sorted[n]!);
    if (event.shiftKey && last.current !== null) {
      const [a, b] = [last.current, n].sort((p, q) => p - q) as [number, number];
      props.onChoose(sorted.slice(a, b + 1).map(idOf), id);
      return;
    }
    last.current = n;
    if (event.ctrlKey || event.metaKey) {
      const next = new Set(props.chosen);
      if (next.has(id)) next.delete(id);
      else next.add(id);
      props.onChoose([...next], id);
    } else props.onChoose([], id);
  }

  function key(event: React.KeyboardEvent): void {
    const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 20, PageUp: -20 }[event.key];
    if (!by || !sorted.length) return;
    event.preventDefault();
    event.stopPropagation();
    choose(Math.min(Math.max(at + by, 0), sorted.length - 1), event);
  }

  const width = shown.reduce((sum, c) => sum + (c.wide ?? 84), 0);
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="flex items-center gap-3 border-b border-line px-3 py-1.5">
        <input
          className="field max-w-72"
          aria-label="filter the ledger"
          placeholder={`words, or ${columns.find((c) => c.digits !== undefined)?.words} > 4`}
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
        />
        <span className="text-quiet">
          {plural(sorted.length, props.noun)}
          {sorted.length < rows.length && ` of ${rows.length}`}
        </span>
        <span className="ml-auto flex gap-1">
          <Columns columns={columns} shown={hidden} onChange={setHidden} />
          <Button
            quiet
            onClick={() =>
              void navigator.clipboard
                .writeText(asText(shown, sorted, "\t"))
                .then(() => say(`Copied ${plural(sorted.length, props.noun)}.`))
            }
          >
            copy
          </Button>
          <Button
            quiet
            onClick={() => saveText(`${props.name}.csv`, asText(shown, sorted, ","), "text/csv")}
          >
            CSV
          </Button>
        </span>
      </div>
      <div
        ref={frame}
        className="min-h-0 flex-1 overflow-auto"
        role="grid"
        aria-label={props.name}
        aria-rowcount={sorted.length}
        tabIndex={0}
        onKeyDown={key}
      >
        <div role="row" className="sticky top-0 z-10 flex bg-panel" style={{ minWidth: width }}>
          {shown.map((c) => {
            const order = table.getColumn(c.key)?.getIsSorted();
            return (
              <button
                key={c.key}
                role="columnheader"
                aria-sort={order === "asc" ? "ascending" : order ? "descending" : "none"}
                style={{ width: c.wide ?? 84 }}
                className={`min-h-6 shrink-0 truncate border-b border-line px-2 py-1 hover:text-ink ${
                  c.digits === undefined ? "text-left" : "text-right"
                } ${order ? "text-beam" : "text-quiet"}`}
                onClick={() => table.getColumn(c.key)?.toggleSorting()}
              >
                {c.words}
                {c.unit && <span className="text-small"> {c.unit}</span>}
                {order && (order === "asc" ? " ↑" : " ↓")}
              </button>
            );
          })}
        </div>
        <div className="relative" style={{ height: virtual.getTotalSize(), minWidth: width }}>
          {virtual.getVirtualItems().map((item) => {
            const row = sorted[item.index]!;
            const id = idOf(row);
            const on = id === props.current;
            return (
              <div
                key={id}
                role="row"
                aria-selected={on || props.chosen.has(id)}
                className={`absolute inset-x-0 flex cursor-pointer items-center border-b border-line ${
                  on ? "bg-raised text-beam" : props.chosen.has(id) ? "bg-raised" : "hover:bg-panel"
                } ${props.tone?.(row) ?? ""}`}
                style={{ height: ROW_PX, transform: `translateY(${item.start}px)` }}
                onClick={(event) => choose(item.index, event)}
              >
                {shown.map((c) => (
                  <span
                    key={c.key}
                    role="gridcell"
                    style={{ width: c.wide ?? 84 }}
                    title={c.digits === undefined ? cellText(c, row) : undefined}
                    className={`shrink-0 truncate px-2 ${c.digits === undefined ? "" : "num text-right"}`}
                  >
                    {cellText(c, row)}
                  </span>
                ))}
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

function Columns<Row>(props: {
  columns: readonly LedgerColumn<Row>[];
  shown: VisibilityState;
  onChange: (next: VisibilityState) => void;
}) {
  return (
    <Popover.Root>
      <Popover.Trigger className="min-h-6 px-2.5 py-1 text-quiet hover:text-ink">
        columns <span aria-hidden>▾</span>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          className="z-20 max-h-96 overflow-y-auto border border-line bg-panel p-2"
          aria-label="columns shown"
        >
          {props.columns.map((c) => (
            <label key={c.key} className="flex min-h-6 items-center gap-2 px-1 hover:bg-raised">
              <input
                type="checkbox"
                checked={!!props.shown[c.key]}
                onChange={() => props.onChange({ ...props.shown, [c.key]: !props.shown[c.key] })}
              />
              {c.words}
            </label>
          ))}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
