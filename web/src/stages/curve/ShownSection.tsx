import type { FilterCurve } from "../../api/types";
import { useApp } from "../../state";
import { Chips, Section } from "../../ui/parts";
import { MOST_TIMED, pointsOf } from "./shown";
import { DRAWN, useShown } from "./view";

const VIEWS = [
  { key: "time", words: "time" },
  { key: "nights", words: "nights" },
  { key: "phase", words: "phase" },
  { key: "turns", words: "minima" },
  { key: "others", words: "field" },
] as const;
const SCALES = [
  { key: "standard", words: "standard" },
  { key: "own", words: "differential" },
  { key: "raw", words: "instrumental" },
  { key: "colour", words: "colour" },
] as const;
const MEANS = [
  { key: "0", words: "every point" },
  { key: "10", words: "means of 10 min" },
  { key: "60", words: "of 1 h" },
] as const;
const CLOCKS = [
  { key: "ut", words: "UT" },
  { key: "jd", words: "JD" },
] as const;
const DATES = [
  { key: "bjd", words: "BJD (TDB)" },
  { key: "hjd", words: "HJD (UTC)" },
] as const;

/** What of the curve is shown, and how. */
export function ShownSection({ filters }: { filters: readonly FilterCurve[] }) {
  const filter = useApp((s) => s.filter);
  const set = useApp((s) => s.set);
  const clock = useApp((s) => s.clock);
  const shown = useShown();
  return (
    <Section title="Shown">
      <div className="flex flex-col gap-2">
        <Chips
          label="view of the curve"
          value={shown.view}
          onChange={(view) => useShown.setState({ view })}
          options={VIEWS}
        />
        {shown.view === "time" && (
          <Chips
            label="axis of time"
            value={clock}
            onChange={(next) => set({ clock: next })}
            options={CLOCKS}
          />
        )}
        {shown.view === "time" && pointsOf(filters) > MOST_TIMED && (
          <p className="text-small text-quiet">
            Minima are marked in their own view alone: of more than {MOST_TIMED} points they take a
            while.
          </p>
        )}
        {shown.view === "turns" && (
          <Chips
            label="times of minimum"
            value={shown.dates}
            onChange={(dates) => useShown.setState({ dates })}
            options={DATES}
          />
        )}
        {DRAWN.has(shown.view) && (
          <>
            <Chips
              label="filter"
              value={filter}
              onChange={(key) => set({ filter: key })}
              options={[
                { key: "", words: "all" },
                ...filters.map((f) => ({ key: f.filter, words: f.filter })),
              ]}
            />
            <Chips
              label="magnitudes"
              value={shown.scale}
              onChange={(scale) => useShown.setState({ scale })}
              options={SCALES.slice(0, filters.some((f) => f.standard) ? 4 : 3)}
            />
            {shown.view === "time" && (
              <Chips
                label="points in time"
                value={String(shown.means) as (typeof MEANS)[number]["key"]}
                onChange={(means) => useShown.setState({ means: Number(means) })}
                options={MEANS}
              />
            )}
            {filters.length > 1 && (
              <Chips
                label="filters"
                value={shown.together ? "together" : "apart"}
                onChange={(key) => useShown.setState({ together: key === "together" })}
                options={[
                  { key: "apart", words: "as they are" },
                  { key: "together", words: "each about its middle" },
                ]}
              />
            )}
          </>
        )}
      </div>
    </Section>
  );
}
