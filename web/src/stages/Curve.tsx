import { useMemo } from "react";
import { startJob } from "../api/actions";
import { useCampaign, useCurve } from "../api/queries";
import type { Curve } from "../api/types";
import type { Hit } from "../charts/marks";
import { useAxis } from "../rail/axis";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { Empty, Section } from "../ui/parts";
import { CheckSection } from "./curve/CheckSection";
import { ElementsSection } from "./curve/ElementsSection";
import { FigureSection } from "./curve/FigureSection";
import { FilterFacts } from "./curve/FilterFacts";
import { NightsView } from "./curve/NightsView";
import { OthersSection } from "./curve/OthersSection";
import { OthersView } from "./curve/OthersView";
import { PeriodSection } from "./curve/PeriodSection";
import { binned } from "./curve/phase";
import { PhaseView } from "./curve/PhaseView";
import { PointsSection } from "./curve/PointsSection";
import { aboutTheirMiddles, marksOf } from "./curve/shown";
import { ShownSection } from "./curve/ShownSection";
import { tellHit } from "./curve/tell";
import { TimeView } from "./curve/TimeView";
import { TurnsView } from "./curve/TurnsView";
import { DRAWN, useShown, type View } from "./curve/view";

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

const PLAIN = new Set<View>(["time", "nights"]);

export function CurveBench() {
  const id = useApp((s) => s.campaign);
  const selection = useApp((s) => s.selection);
  const set = useApp((s) => s.set);
  const { data } = useCurve(id);
  const { data: campaign } = useCampaign(id);
  const shown = useShown();
  if (!data?.filters.length || !campaign) return null;
  return (
    <>
      <ShownSection filters={data.filters} />
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
