import { useMemo } from "react";
import { useCampaign, useOtherCurves, usePeriods, useSeries } from "../../api/queries";
import type { FilterCurve, PeriodsAsked } from "../../api/types";
import { rangeOfMarks } from "../../charts/Chart";
import { MarksChart } from "../../charts/MarksChart";
import type { Hit, Marks } from "../../charts/marks";
import { useApp } from "../../state";
import { scaleWords } from "./shown";
import { binned, epochOf, foldMarks, inForce } from "./phase";
import { Candidates } from "./Candidates";
import { ghostsOverPhase } from "./others";
import { Periodogram } from "./Periodogram";
import { typed, useShown } from "./view";

/** What is asked for: the filters shown, on the scale shown, within the limits typed. */
export function useAsked(): PeriodsAsked {
  const filter = useApp((s) => s.filter);
  const { scale, shape, shortest, longest, without, of } = useShown();
  const limit = (text: string) => (typed(text) > 0 ? typed(text) : null);
  return {
    filter,
    scale: scale === "colour" ? "standard" : scale,
    kind: shape,
    shortest: limit(shortest),
    longest: limit(longest),
    without,
    of,
  };
}

/** The curve over phase, the likely periods side by side, and the periodogram. */
export function PhaseView(props: {
  target: Marks[];
  filters: FilterCurve[];
  tell: (hit: Hit) => string;
}) {
  const id = useApp((s) => s.campaign);
  const { data: campaign } = useCampaign(id);
  const { data: series } = useSeries(id, true);
  const found = usePeriods(id, useAsked(), true);
  const { period, scale, bins, together } = useShown();
  const { target, filters } = props;
  const best = found.data?.peaks[0]?.period_d;
  const chosen = typed(period) > 0 ? typed(period) : inForce(series)?.period_d;
  const days = chosen ?? best ?? NaN;
  const epoch = epochOf(series, filters);
  const marks = useMemo(() => {
    if (!(days > 0)) return [];
    const folded = foldMarks(target, filters, days, epoch.bjd);
    return bins > 0 ? binned(folded, bins / 100) : folded;
  }, [target, filters, days, epoch.bjd, bins]);
  const { data: others } = useOtherCurves(id);
  const ghosts = useMemo(
    () =>
      scale === "standard" && !together
        ? ghostsOverPhase(others, filters, days, epoch.bjd)
        : undefined,
    [others, filters, days, epoch.bjd, scale, together],
  );
  const name = campaign?.target.name || "target";
  return (
    <>
      <MarksChart
        className="min-h-0 flex-[3]"
        testId="curve-phase"
        marks={marks}
        x={[-0.25, 1.25]}
        y={rangeOfMarks(marks, 0.05, [10, 12])}
        label="magnitude"
        xAxis
        xLabel={`phase, 0 at the ${epoch.kind} of BJD ${epoch.bjd.toFixed(4)}`}
        title={
          days > 0
            ? `${name} by ${days.toPrecision(7)} d, ${scaleWords(filters, scale)}${chosen ? "" : ": the likeliest period, none is chosen"}`
            : name
        }
        ghosts={ghosts}
        tell={props.tell}
      />
      {found.data && found.data.peaks.length > 0 && (
        <Candidates peaks={found.data.peaks} marks={target} filters={filters} />
      )}
      <div className="flex min-h-0 flex-[1.6] flex-col border-t border-line">
        <div className="grid min-h-0 flex-1">
          <Periodogram found={found.data} busy={found.isFetching && found.isPlaceholderData} />
        </div>
      </div>
    </>
  );
}
