import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef } from "react";
import type { FileRow } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Chips } from "../../ui/parts";
import { plural, seconds, shortName } from "../../ui/words";
import { KIND_WORDS, useChoice } from "./choice";

/** All files, those that need an answer, or one stack; many are chosen with Shift and Ctrl. */
export function Files({ files }: { files: FileRow[] }) {
  const { kept, stack, chosen, last } = useChoice();
  const set = useApp((s) => s.set);
  const counts = {
    questions: files.filter((f) => f.question).length,
    "left out": files.filter((f) => f.part === "left out").length,
  };
  const shown = useMemo(() => {
    const stacked = new Set(stack?.ids);
    return files.filter((f) =>
      kept === "questions"
        ? f.question
        : kept === "left out"
          ? f.part === "left out"
          : kept === "stack"
            ? stacked.has(f.id)
            : true,
    );
  }, [files, kept, stack]);
  const frame = useRef<HTMLDivElement>(null);
  const moved = useRef(false);
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => frame.current,
    estimateSize: () => 25,
    overscan: 12,
  });

  /** The row that has the keyboard: the one that was chosen last, while it is shown. */
  const at = Math.max(
    shown.findIndex((f) => f.id === last),
    0,
  );

  function choose(file: FileRow, event: React.MouseEvent | React.KeyboardEvent): void {
    const next = new Set(event.ctrlKey || event.metaKey || event.shiftKey ? chosen : []);
    if (event.shiftKey && last !== null) {
      const [a, b] = [shown.findIndex((f) => f.id === last), shown.indexOf(file)].sort(
        (p, q) => p - q,
      ) as [number, number];
      for (const f of shown.slice(Math.max(a, 0), b + 1)) next.add(f.id);
    } else if (next.has(file.id)) next.delete(file.id);
    else next.add(file.id);
    useChoice.setState({ chosen: next, last: file.id });
    if (file.part === "exposure") set({ beam: file.id });
  }

  function key(event: React.KeyboardEvent): void {
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    const next = shown[Math.min(Math.max(at + (by ?? 0), 0), shown.length - 1)];
    if (!next) return;
    if (by) {
      choose(next, event);
      rows.scrollToIndex(shown.indexOf(next));
      moved.current = true;
    } else if (event.key === " ") choose(next, { ...event, ctrlKey: true });
    else if (event.key === "Enter") choose(next, event);
    else if (event.key === "a" && (event.ctrlKey || event.metaKey)) all();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  const all = () => useChoice.setState({ chosen: new Set(shown.map((f) => f.id)) });

  // The keyboard goes along once the row is there.
  useEffect(() => {
    if (!moved.current) return;
    const row = frame.current?.querySelector<HTMLElement>(`[data-file="${last}"]`);
    if (row) moved.current = false;
    row?.focus({ preventScroll: true });
  });

  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="flex items-center gap-4 border-b border-line px-4 py-1.5">
        <Chips
          label="files shown"
          value={kept}
          onChange={(key) => useChoice.setState({ kept: key, stack: null, chosen: new Set() })}
          options={[
            { key: "questions", words: `needs an answer ${counts.questions}` },
            { key: "left out", words: `left out ${counts["left out"]}` },
            { key: "all", words: `all ${files.length}` },
            ...(stack ? [{ key: "stack" as const, words: "this stack" }] : []),
          ]}
        />
        <span className="ml-auto text-quiet">
          {chosen.size ? `${plural(chosen.size, "file")} chosen` : ""}
        </span>
        {shown.length > 0 && (
          <Button quiet onClick={all} title="Ctrl + A in the list">
            choose all
          </Button>
        )}
      </div>
      <div ref={frame} className="min-h-0 flex-1 overflow-auto">
        {!shown.length && <p className="px-4 py-3 text-quiet">Nothing here. Good.</p>}
        <div
          className="relative"
          style={{ height: rows.getTotalSize() }}
          role="listbox"
          aria-label="files"
          aria-multiselectable
          onKeyDown={key}
        >
          {rows.getVirtualItems().map((item) => {
            const file = shown[item.index]!;
            const on = chosen.has(file.id);
            return (
              <div
                key={file.id}
                role="option"
                aria-selected={on}
                data-file={file.id}
                tabIndex={item.index === at ? 0 : -1}
                title={file.part_reason || file.name}
                className={`absolute inset-x-0 flex h-[25px] cursor-pointer items-center gap-3 border-b border-line px-4 ${on ? "bg-raised" : "hover:bg-panel"}`}
                style={{ transform: `translateY(${item.start}px)` }}
                onClick={(event) => choose(file, event)}
              >
                <span className={`w-52 shrink-0 truncate ${on ? "text-beam" : ""}`}>
                  {shortName(file.name)}
                </span>
                <span className="w-24 shrink-0 truncate">
                  {KIND_WORDS[file.kind] ?? (file.kind || "–")}
                  {file.correction.kind && <span className="text-beam"> ✎</span>}
                </span>
                <span className="num w-8 shrink-0">{file.filter}</span>
                <span className="num w-14 shrink-0 text-right">
                  {file.exposure_s === null ? "" : seconds(file.exposure_s)}
                </span>
                <span className="num w-32 shrink-0 text-quiet">{file.time_utc.slice(5)}</span>
                <span
                  className={`min-w-0 flex-1 truncate ${file.question ? "text-beam" : "text-quiet"}`}
                >
                  {file.part_reason}
                </span>
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}
