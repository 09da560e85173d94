import { useDeferredValue, useMemo } from "react";
import { useOtherCurves, useSeries } from "../../api/queries";
import type { FilterCurve } from "../../api/types";
import { rangeOfMarks } from "../../charts/Chart";
import type { Hit, Marks } from "../../charts/marks";
import { MarksChart } from "../../charts/MarksChart";
import { useAxis } from "../../rail/axis";
import { ticks } from "../../rail/timeline";
import { useApp } from "../../state";
import { ghostsOverTime } from "./others";
import { binned } from "./phase";
import { comparisonMarks, marksOf, MOST_TIMED, pointsOf, scaleWords, STACK_MAG } from "./shown";
import { tellHit } from "./tell";
import { pinsOf } from "./turns";
import { useShown } from "./view";

/** Target above, check and comparison stars below, on the rail's axis. */
export function TimeView(props: {
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

function checkTitle(series: readonly { role: string; name: string }[]): string {
  const names = series.filter((s) => s.role === "check").map((s) => s.name);
  if (names.length < 2) return `check star ${names[0] ?? ""}, from its mean`;
  return `check stars ${names.join(", ")}, each from its mean, rows ${STACK_MAG} mag apart`;
}
