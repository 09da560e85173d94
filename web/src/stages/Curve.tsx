import { useDeferredValue, useMemo } from "react";
import { saveSettings, startJob } from "../api/actions";
import { useCampaign, useCurve, useOtherCurves, useSeries } from "../api/queries";
import type { Curve, FilterCurve } from "../api/types";
import { rangeOfMarks } from "../charts/Chart";
import { extent } from "../charts/extent";
import type { Hit, Marks } from "../charts/marks";
import { MarksChart, tellMagnitude } from "../charts/MarksChart";
import { useAxis } from "../rail/axis";
import { ticks } from "../rail/timeline";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { Chips, Empty, Fact, Section } from "../ui/parts";
import { clockUtc, dayOf, fixed, plusMinusMmag, radiusWords, shortName } from "../ui/words";
import { CheckSection } from "./curve/CheckSection";
import { ElementsSection } from "./curve/ElementsSection";
import { FigureSection } from "./curve/FigureSection";
import { NightsView } from "./curve/NightsView";
import { ghostsOverTime } from "./curve/others";
import { OthersSection } from "./curve/OthersSection";
import { OthersView } from "./curve/OthersView";
import { PeriodSection } from "./curve/PeriodSection";
import { PhaseView } from "./curve/PhaseView";
import { PointsSection } from "./curve/PointsSection";
import {
  aboutTheirMiddles,
  comparisonMarks,
  doubts,
  marksOf,
  median,
  scaleWords,
  STACK_MAG,
} from "./curve/shown";
import { binned } from "./curve/phase";
import { pinsOf } from "./curve/turns";
import { TurnsView } from "./curve/TurnsView";
import { useShown, type View } from "./curve/view";
import { indexWords } from "./measure/scale";

export function CurveMain() {
  const id = useApp((s) => s.campaign);
  const filter = useApp((s) => s.filter);
  const atWork = useApp((s) => s.progress !== null && s.progress.campaign === s.campaign);
  const { data } = useCurve(id);
  const { data: campaign } = useCampaign(id);
  const axis = useAxis();
  const { view, scale, together, means } = useShown();
  const filters = useMemo(
    () => data?.filters.filter((f) => !filter || f.filter === filter) ?? [],
    [data, filter],
  );
  const target = useMemo(() => {
    const marks = filters.flatMap((f) => marksOf(f, "target", axis.hours, scale));
    const own = together ? aboutTheirMiddles(marks) : marks;
    return view === "time" && means > 0 ? binned(own, means / 60) : own;
  }, [filters, axis, scale, together, view, means]);
  if (!campaign) return null;
  if (!data?.filters.length)
    return (
      <Empty title="No curve yet">
        <p>
          {data?.problems[0] ??
            (atWork
              ? "The curve is made from the measured stars, and appears when they are."
              : "The curve is made from the measured stars. Measure the night, and it appears.")}
        </p>
        {!atWork && (
          <Button main className="self-start" onClick={() => void startJob("reduce")}>
            Reduce all of it
          </Button>
        )}
      </Empty>
    );
  const name = campaign.target.name || "target";
  const tell = (hit: Hit) => tellHit(hit, axis, name);
  return (
    <div className="flex h-full flex-col" data-testid="curve">
      {view === "time" && <TimeView target={target} filters={filters} tell={tell} name={name} />}
      {view === "nights" && <NightsView target={target} filters={filters} tell={tell} />}
      {view === "phase" && <PhaseView target={target} filters={filters} tell={tell} />}
      {view === "turns" && <TurnsView />}
      {view === "others" && <OthersView />}
    </div>
  );
}

/** Points beyond which turns are timed in their own view alone: it takes some seconds for each
 * thousand of them, with every change of a role. */
const MOST_TIMED = 6000;
const pointsOf = (filters: readonly FilterCurve[]) =>
  filters.reduce((sum, f) => sum + f.file_ids.length, 0);

/** Target above, check and comparison stars below, on the rail's axis. */
function TimeView(props: {
  target: Marks[];
  filters: FilterCurve[];
  tell: (hit: Hit) => string;
  name: string;
}) {
  const { target, filters } = props;
  const id = useApp((s) => s.campaign);
  const axis = useAxis();
  const { scale, together, means } = useShown();
  const points = pointsOf(filters);
  const { data: series } = useSeries(id, points <= MOST_TIMED);
  const { data: others } = useOtherCurves(id);
  // The target comes first; what lies below it is drawn right after.
  const below = useDeferredValue(filters);
  const parts = useMemo(() => {
    const meansOf = (marks: Marks[]) => (means > 0 ? binned(marks, means / 60) : marks);
    return {
      check: meansOf(below.flatMap((f) => marksOf(f, "check", axis.hours, scale))),
      comparison: comparisonMarks(below[0], axis.hours),
      pins: pinsOf(points <= MOST_TIMED ? series : undefined, below, axis.timeline),
      ghosts:
        scale === "standard" && !together
          ? ghostsOverTime(others, below, axis.timeline)
          : undefined,
    };
  }, [below, axis, scale, together, series, others, means, points]);
  const x = axis.domain;
  const lines = ticks(axis.timeline, axis.domain, 800, axis.clock).map((t) => t.at);
  return (
    <>
      <MarksChart
        className="min-h-0 flex-[3]"
        testId="curve-target"
        marks={target}
        x={x}
        y={rangeOfMarks(target, 0.05, [10, 12])}
        label="magnitude"
        lines={lines}
        pins={parts.pins}
        ghosts={parts.ghosts}
        title={`${props.name}, ${scaleWords(filters, scale)}`}
        tell={props.tell}
      />
      <MarksChart
        className="min-h-0 flex-1 border-t border-line"
        marks={parts.check}
        x={x}
        y={rangeOfMarks(parts.check, 0.04, [-0.1, 0.1])}
        label="mag"
        digits={2}
        lines={lines}
        title={checkTitle(below[0]?.series ?? [])}
        tell={(hit) => tellHit(hit, axis, hit.marks.key)}
      />
      <MarksChart
        className="min-h-0 flex-[1.2] border-t border-line"
        marks={parts.comparison.marks}
        rows={parts.comparison.rows.map((row) => row.y)}
        x={x}
        y={parts.comparison.range}
        label={`rows ${STACK_MAG} mag apart`}
        lines={lines}
        title={`each against the others in ${below[0]?.filter}: ${parts.comparison.rows.map((row) => row.words).join(" · ")}`}
        tell={(hit) => tellHit(hit, axis, hit.marks.key)}
      />
    </>
  );
}

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
const PLAIN = new Set<View>(["time", "nights"]);
const DRAWN = new Set<View>(["time", "nights", "phase"]);

function checkTitle(series: readonly { role: string; name: string }[]): string {
  const names = series.filter((s) => s.role === "check").map((s) => s.name);
  if (names.length < 2) return `check star ${names[0] ?? ""}, from its mean`;
  return `check stars ${names.join(", ")}, each from its mean, rows ${STACK_MAG} mag apart`;
}

function tellHit(hit: Hit, axis: ReturnType<typeof useAxis>, name: string): string {
  const e = axis.exposures.find((one) => one.id === hit.id);
  const words = hit.marks.words[hit.index];
  const first = `${tellMagnitude(hit, name)}${words ? `  ${words}` : ""}`;
  return e
    ? `${first}\n${shortName(e.name)}  ${dayOf(e.mid_utc)} ${clockUtc(e.mid_utc)} UT`
    : first;
}

export function CurveBench() {
  const id = useApp((s) => s.campaign);
  const filter = useApp((s) => s.filter);
  const selection = useApp((s) => s.selection);
  const set = useApp((s) => s.set);
  const clock = useApp((s) => s.clock);
  const { data } = useCurve(id);
  const { data: campaign } = useCampaign(id);
  const shown = useShown();
  if (!data?.filters.length || !campaign) return null;
  return (
    <>
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
          {shown.view === "time" && pointsOf(data.filters) > MOST_TIMED && (
            <p className="text-small text-quiet">
              Minima are marked in their own view alone: of more than {MOST_TIMED} points they take
              a while.
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
                  ...data.filters.map((f) => ({ key: f.filter, words: f.filter })),
                ]}
              />
              <Chips
                label="magnitudes"
                value={shown.scale}
                onChange={(scale) => useShown.setState({ scale })}
                options={SCALES.slice(0, data.filters.some((f) => f.standard) ? 4 : 3)}
              />
              {shown.view === "time" && (
                <Chips
                  label="points in time"
                  value={String(shown.means) as (typeof MEANS)[number]["key"]}
                  onChange={(means) => useShown.setState({ means: Number(means) })}
                  options={MEANS}
                />
              )}
              {data.filters.length > 1 && (
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
      {shown.view === "phase" && <PeriodSection />}
      {(shown.view === "phase" || shown.view === "turns") && <ElementsSection />}
      {PLAIN.has(shown.view) &&
        data.filters.map((f) => (
          <FilterFacts key={f.filter} curve={f} floor={campaign?.floor ?? false} />
        ))}
      {PLAIN.has(shown.view) && <CheckSection />}
      {PLAIN.has(shown.view) && <PointsSection />}
      {DRAWN.has(shown.view) && <OthersSection />}
      <Problems data={data} />
      <Section title={DRAWN.has(shown.view) ? "Points" : "Go on"}>
        {DRAWN.has(shown.view) && (
          <p className="mb-2 text-quiet">
            {selection.length > 1
              ? "Set the chosen ones aside beside the rail, or with X."
              : "Point at one to see its exposure; draw around some to take them."}
          </p>
        )}
        <Button onClick={() => set({ stage: "report" })}>Next: Report</Button>
      </Section>
      {DRAWN.has(shown.view) && <FigureSection />}
    </>
  );
}

function FilterFacts({ curve, floor }: { curve: FilterCurve; floor: boolean }) {
  const target = curve.series.find((s) => s.role === "target");
  const values = target?.magnitude.filter((v): v is number => v !== null) ?? [];
  const [brightest, faintest] = extent(values);
  return (
    <Section title={`In ${curve.filter}`} aside={`${values.length} points`}>
      <dl>
        <Fact name="brightest, faintest">
          {fixed(brightest, 3)} · {fixed(faintest, 3)}
        </Fact>
        <Fact name="typical uncertainty">
          {fixed(median(target?.uncertainty ?? []) * 1000, 1, "mmag")}
        </Fact>
        <Fact name="check star scatters">
          {curve.scatter_check_mag === null
            ? "no check star"
            : `${fixed(curve.scatter_check_mag * 1000, 1)}, ${fixed((curve.expected_check_mag ?? NaN) * 1000, 1)} expected`}
        </Fact>
        <Fact name="radius">{radiusWords(curve.radius_px)}</Fact>
        <Fact name="common offset, ±">{fixed(curve.common_offset_mag * 1000, 1, "mmag")}</Fact>
        {curve.floor_mag !== null && (
          <Fact name="correlated noise">
            <button
              className="text-beam"
              title={
                floor
                  ? "Take it out of the uncertainties again"
                  : "Add it to the uncertainties of all points"
              }
              onClick={() => void saveSettings({ floor: !floor })}
            >
              {fixed(curve.floor_mag * 1000, 1, "mmag")}
              {floor ? ", in the uncertainties" : ": add it"}
            </button>
          </Fact>
        )}
        <Fact name="standard scale">
          {curve.standard
            ? `by ${indexWords(curve.standard.index)}, ${plusMinusMmag(curve.standard.common_mag)}`
            : "not reached: see Measure"}
        </Fact>
        {target && target.doubtful.length > 0 && (
          <Fact name="doubtful, hollow">{target.doubtful.length}</Fact>
        )}
        {target &&
          doubts(target).map(({ words, count, mmag }) => (
            <Fact key={words} name={`for ${words}`}>
              {count}
              {mmag > 0 && `, up to ${fixed(mmag, mmag < 10 ? 1 : 0, "mmag")}`}
            </Fact>
          ))}
        {target && Object.keys(target.limit).length > 0 && (
          <Fact name="not seen, limit only">{Object.keys(target.limit).length}</Fact>
        )}
      </dl>
    </Section>
  );
}

function Problems({ data }: { data: Curve }) {
  if (!data.problems.length) return null;
  return (
    <Section title="In the way">
      {data.problems.map((words) => (
        <p key={words} className="border-l-2 border-beam pl-2">
          {words}
        </p>
      ))}
    </Section>
  );
}
