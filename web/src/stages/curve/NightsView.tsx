import { useMemo } from "react";
import { useCampaign, useExposures } from "../../api/queries";
import type { FilterCurve } from "../../api/types";
import { MarksChart } from "../../charts/MarksChart";
import type { Hit, Marks } from "../../charts/marks";
import { useApp } from "../../state";
import { dayAndMonth } from "../../ui/words";
import { scaleWords } from "./shown";
import { stackNights } from "./phase";
import { useShown } from "./view";

/** Of more nights only some are called by their dates: there is no room for all. */
const MOST_NAMED = 30;

/** One night above the other, on one axis of hours. */
export function NightsView(props: {
  target: Marks[];
  filters: FilterCurve[];
  tell: (hit: Hit) => string;
}) {
  const scale = useShown((s) => s.scale);
  const id = useApp((s) => s.campaign);
  const { data: exposures } = useExposures(id);
  const { data: campaign } = useCampaign(id);
  const nights = campaign?.nights;
  const stacked = useMemo(() => {
    const named = new Map((nights ?? []).map((night) => [night.id, night.evening]));
    const evenings = (exposures?.exposures ?? []).flatMap((e) => {
      const evening = named.get(e.night);
      return evening ? [[e.id, evening] as const] : [];
    });
    return stackNights(props.target, props.filters, new Map(evenings));
  }, [props.target, props.filters, exposures, nights]);
  const [from, to] = [stacked.nights[0] ?? "", stacked.nights.at(-1) ?? ""];
  const each = Math.ceil(stacked.nights.length / MOST_NAMED);
  const [low, high] = [stacked.rows[0] ?? 0, stacked.rows.at(-1) ?? 0];
  return (
    <MarksChart
      className="min-h-0 flex-1"
      testId="curve-nights"
      marks={stacked.marks}
      x={stacked.x}
      y={[low - 0.8 * stacked.step, high + 0.8 * stacked.step]}
      rows={stacked.rows}
      rowWords={stacked.nights.map((night, n) => (n % each ? "" : dayAndMonth(night)))}
      label={`nights, ${stacked.step.toFixed(2)} mag apart`}
      xAxis
      ofDay
      xLabel="UT"
      title={`${from}${to === from ? "" : ` to ${to}`}, ${scaleWords(props.filters, scale)}`}
      tell={props.tell}
    />
  );
}
