import { Popover } from "radix-ui";
import { useApp, type Quality } from "../state";
import { fixed } from "../ui/words";
import { useAxis } from "./axis";
import { DASHES, qualityRange } from "./draw";
import { QUALITIES } from "./qualities";

const MOST_LINES = 4;
const ALL = Object.keys(QUALITIES) as Quality[];

/** Left of the rail: which qualities the lines show, each with its dash and its range. */
export function RailLabels({ filters }: { filters: string[] }) {
  const lines = useApp((s) => s.lines);
  const domain = useApp((s) => s.domain);
  const set = useApp((s) => s.set);
  const { exposures } = useAxis();
  if (!filters.length) return <div className="border-t border-line bg-panel" />;

  function toggle(quality: Quality): void {
    const without = lines.filter((q) => q !== quality);
    const next = without.length < lines.length ? without : [...lines, quality].slice(-MOST_LINES);
    set({ lines: next });
  }

  return (
    <div className="flex min-w-0 flex-col overflow-hidden border-t border-line bg-panel px-1.5 py-1 text-small">
      <Popover.Root>
        <Popover.Trigger
          className="min-h-6 text-left text-quiet hover:text-ink"
          aria-label="lines on the rail"
        >
          lines <span aria-hidden>▾</span>
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            side="top"
            align="start"
            className="z-20 border border-line bg-panel p-2"
            aria-label="lines on the rail"
          >
            {ALL.map((q) => (
              <label key={q} className="flex min-h-6 items-center gap-2 px-1 hover:bg-raised">
                <input type="checkbox" checked={lines.includes(q)} onChange={() => toggle(q)} />
                {QUALITIES[q].words}
                <span className="ml-auto pl-3 text-quiet">{QUALITIES[q].unit}</span>
              </label>
            ))}
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      {lines.map((quality, n) => {
        const q = QUALITIES[quality];
        const range = qualityRange(exposures, quality);
        const tall = lines.length < 3;
        return (
          <div key={quality} className={tall ? "leading-tight" : "leading-[1.1]"}>
            <span className="flex items-center gap-1 whitespace-nowrap" title={q.words}>
              <Dash n={n} />
              <span className="truncate">{q.words}</span>
            </span>
            {tall && range && (
              <span className="num text-quiet" title="lowest and highest of the line">
                {fixed(range[0], q.digits)}–{fixed(range[1], q.digits)} {q.unit}
              </span>
            )}
          </div>
        );
      })}
      {domain && (
        <button className="mt-auto text-left text-beam" onClick={() => set({ domain: null })}>
          all of it
        </button>
      )}
    </div>
  );
}

function Dash({ n }: { n: number }) {
  return (
    <svg width="16" height="6" aria-hidden className="shrink-0">
      <line
        x1="0"
        y1="3"
        x2="16"
        y2="3"
        stroke="currentColor"
        strokeDasharray={DASHES[n % DASHES.length]!.join(" ")}
      />
    </svg>
  );
}
