import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { create } from "zustand";
import { useCampaign, useIntake } from "../api/queries";
import type { FileRow, Stack } from "../api/types";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { NewCampaign } from "../ui/NewCampaign";
import { Chips, Empty } from "../ui/parts";
import { dayOf, fixed, plural, seconds, shortName } from "../ui/words";
import { CorrectionForm } from "./intake/CorrectionForm";
import { FoldersSection } from "./intake/FoldersSection";
import { NamesForm } from "./intake/NamesForm";
import { SetUp } from "./intake/SetUp";

type Kept = "questions" | "left out" | "all" | "stack";

interface Choice {
  kept: Kept;
  stack: Stack | null;
  chosen: Set<number>;
  last: number | null;
}

export const useChoice = create<Choice>()(() => ({
  kept: "all",
  stack: null,
  chosen: new Set(),
  last: null,
}));

const KIND_WORDS: Record<string, string> = {
  exposure: "sky",
  bias: "bias",
  dark: "dark",
  flat: "flat",
  "flat dark": "dark for flats",
};

export function IntakeMain() {
  const campaign = useApp((s) => s.campaign);
  const { data } = useIntake(campaign);
  const [making, setMaking] = useState(false);
  if (campaign === null || (data && !data.files.length))
    return (
      <>
        <Empty title="Point to the folder of a night">
          <p>
            Exposures, bias, darks and flats may lie mixed: they are sorted by what their headers
            say. Raw files are only read, never changed.
          </p>
          <Button main className="self-start" onClick={() => setMaking(true)}>
            Choose a folder …
          </Button>
        </Empty>
        {making && <NewCampaign onClose={() => setMaking(false)} />}
      </>
    );
  if (!data) return null;
  return (
    <div className="flex h-full flex-col">
      <Stacks stacks={data.stacks} missing={data.missing} />
      <Files files={data.files} />
    </div>
  );
}

function Stacks({ stacks, missing }: { stacks: Stack[]; missing: string[] }) {
  const chosen = useChoice((s) => s.stack);
  const nights = [...new Set(stacks.map((s) => s.night))];
  return (
    <div className="max-h-[46%] shrink-0 overflow-auto border-b border-line px-4 py-2.5">
      {missing.length > 0 && (
        <ul className="mb-2 border-l-2 border-beam pl-2">
          {missing.map((words) => (
            <li key={words}>{words}</li>
          ))}
        </ul>
      )}
      <div className="grid grid-cols-2 gap-x-8 gap-y-2">
        {nights.map((night) => (
          <table key={night} className="w-full self-start">
            <caption className="pb-1 text-left font-semibold">
              {night ? `Night of ${dayOf(night)}` : "No date"}
            </caption>
            <tbody>
              {stacks
                .filter((stack) => stack.night === night)
                .map((stack) => {
                  const on = chosen?.ids[0] === stack.ids[0];
                  return (
                    <tr
                      key={stack.ids[0]}
                      tabIndex={0}
                      aria-selected={on}
                      title={[stack.settings, stack.words].filter(Boolean).join(" · ")}
                      className={`cursor-pointer border-t border-line ${on ? "bg-raised text-beam" : "hover:bg-raised"}`}
                      onClick={() => pick(on ? null : stack)}
                      onKeyDown={(event) => event.key === "Enter" && pick(on ? null : stack)}
                    >
                      <td className="py-0.5">{KIND_WORDS[stack.kind] ?? stack.kind}</td>
                      <td className="num px-2">{stack.filter}</td>
                      <td className="num px-2 text-right">
                        {stack.exposure_s === null ? "" : seconds(stack.exposure_s)}
                      </td>
                      <td className="num px-2 text-right text-quiet">
                        {fixed(stack.temperature_c, 0, "°C").replace("–", "")}
                      </td>
                      <td className={`num text-right ${stack.words ? "text-beam" : ""}`}>
                        {stack.words ? "thin · " : ""}
                        {stack.count}
                      </td>
                    </tr>
                  );
                })}
            </tbody>
          </table>
        ))}
      </div>
    </div>
  );
}

function pick(stack: Stack | null): void {
  useChoice.setState({ stack, kept: stack ? "stack" : "all", chosen: new Set(stack?.ids ?? []) });
}

function Files({ files }: { files: FileRow[] }) {
  const { kept, stack, chosen, last } = useChoice();
  const set = useApp((s) => s.set);
  const counts = {
    questions: files.filter((f) => f.question).length,
    "left out": files.filter((f) => f.part === "left out").length,
  };
  const shown = useMemo(
    () =>
      files.filter((f) =>
        kept === "questions"
          ? f.question
          : kept === "left out"
            ? f.part === "left out"
            : kept === "stack"
              ? stack?.ids.includes(f.id)
              : true,
      ),
    [files, kept, stack],
  );
  const frame = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => frame.current,
    estimateSize: () => 25,
    overscan: 12,
  });

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
          <Button
            quiet
            onClick={() => useChoice.setState({ chosen: new Set(shown.map((f) => f.id)) })}
          >
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
          aria-multiselectable
        >
          {rows.getVirtualItems().map((item) => {
            const file = shown[item.index]!;
            const on = chosen.has(file.id);
            return (
              <div
                key={file.id}
                role="option"
                aria-selected={on}
                tabIndex={0}
                title={file.part_reason || file.name}
                className={`absolute inset-x-0 flex h-[25px] cursor-pointer items-center gap-3 border-b border-line px-4 ${on ? "bg-raised" : "hover:bg-panel"}`}
                style={{ transform: `translateY(${item.start}px)` }}
                onClick={(event) => choose(file, event)}
                onKeyDown={(event) => event.key === "Enter" && choose(file, event)}
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

export function IntakeBench() {
  const id = useApp((s) => s.campaign);
  const { data: campaign } = useCampaign(id);
  const { data } = useIntake(id);
  const chosen = useChoice((s) => s.chosen);
  if (!campaign || !data) return null;
  const files = data.files.filter((f) => chosen.has(f.id));
  return (
    <>
      {files.length > 0 ? (
        <>
          <CorrectionForm key={files.map((f) => f.id).join()} files={files} />
          <NamesForm files={files} />
        </>
      ) : (
        <FoldersSection campaign={campaign} files={data.files.length} />
      )}
      <SetUp key={campaign.id} campaign={campaign} />
    </>
  );
}
