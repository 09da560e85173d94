import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Chips, Section } from "../../ui/parts";

const SPEEDS = [
  { key: "500", words: "slow" },
  { key: "200", words: "5 a second" },
  { key: "100", words: "10" },
  { key: "50", words: "20" },
] as const;

/** Look through the night: how fast, back and forth or not, beside which. */
export function PlaySection() {
  const s = useApp();
  return (
    <Section title="Look through the night">
      <div className="flex flex-wrap items-center gap-2">
        <Button onClick={() => s.set({ playing: !s.playing })}>
          {s.playing ? "Stop" : "Play"}
        </Button>
        <Button
          aria-pressed={s.split === "first"}
          onClick={() => s.set({ split: s.split === "first" ? "none" : "first" })}
        >
          Beside the first
        </Button>
        <Button aria-pressed={s.film} onClick={() => s.set({ film: !s.film })}>
          Film
        </Button>
      </div>
      <div className="mt-1.5 flex items-center gap-3">
        <Chips
          label="how fast"
          options={SPEEDS}
          value={String(s.playMs) as (typeof SPEEDS)[number]["key"]}
          onChange={(key) => s.set({ playMs: Number(key) })}
        />
        <label className="ml-auto flex min-h-6 items-center gap-1.5">
          <input
            type="checkbox"
            checked={s.playBack}
            onChange={(event) => s.set({ playBack: event.target.checked })}
          />
          and back
        </label>
      </div>
      <p className="mt-1.5 text-small text-quiet">
        ← → step, Space plays{s.selection.length > 1 ? " what is selected" : ""}
        {s.filter ? `, ${s.filter} alone` : ""}. X sets aside and goes on. G shows the ledger, J the
        film.
      </p>
    </Section>
  );
}
