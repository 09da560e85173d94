import { useMemo } from "react";
import type { Scale } from "../../api/types";
import { Chart, rangeOf } from "../../charts/Chart";
import { colour, dayOf } from "../../ui/words";
import { airLines, signed } from "./scale";

type Air = NonNullable<Scale["air"]>;

/** A night's extinction: zero points by all stars against airmass, with each night's own line. */
export function AirChart({ air }: { air: Air }) {
  const lines = useMemo(() => airLines(air), [air]);
  const x = rangeOf(air.airmass, 0.05, [1, 2]);
  const kept = air.zero_point.filter((_, i) => air.used[i]);
  const y = rangeOf(kept.length ? kept : air.zero_point, 0.02, [20, 21]);
  return (
    <>
      <Chart
        className="h-40"
        testId="extinction"
        x={x}
        y={y}
        digits={2}
        label="zero point, mag"
        xLabel="airmass"
        xAxis
        draw={(ctx, place) => {
          ctx.lineWidth = place.ratio;
          ctx.strokeStyle = colour("--comparison");
          air.zero_point.forEach((zero, i) => {
            if (zero == null || air.airmass[i] == null) return;
            ctx.fillStyle = colour(air.used[i] ? "--comparison" : "--panel");
            ctx.beginPath();
            ctx.arc(place.x(air.airmass[i]!), place.y(zero), 2 * place.ratio, 0, 7);
            ctx.fill();
            if (!air.used[i]) ctx.stroke();
          });
          ctx.strokeStyle = colour("--ink");
          for (const line of lines) {
            ctx.beginPath();
            line.forEach(([a, z], i) => ctx[i ? "lineTo" : "moveTo"](place.x(a), place.y(z)));
            ctx.stroke();
          }
        }}
      />
      {air.nights.length ? (
        <dl className="mb-2">
          {air.nights.map((night) => (
            <div key={night.group} className="flex gap-2 text-small">
              <dt className="text-quiet">{dayOf(night.night)}</dt>
              <dd className="num ml-auto">
                {signed(night.value, 3)} ± {night.uncertainty.toFixed(3)} mag an airmass
              </dd>
            </div>
          ))}
        </dl>
      ) : (
        <p className="mb-2 text-small text-quiet">
          No night reaches far enough in airmass for a line of its own.
        </p>
      )}
    </>
  );
}
