import { useMemo, useRef } from "react";
import type uPlot from "uplot";
import { useField } from "../../api/queries";
import type { Campaign } from "../../api/types";
import { Chart } from "../../charts/Chart";
import { useApp } from "../../state";
import { colour, fixed } from "../../ui/words";
import { decades, nearestTo, noiseOf } from "./noise";

/** Every star's scatter by brightness, with the line that the noise model asks for. */
export function NoiseChart({ campaign, filter }: { campaign: Campaign; filter: string }) {
  const { data } = useField(campaign.id, filter);
  const star = useApp((s) => s.star);
  const set = useApp((s) => s.set);
  const plot = useRef<uPlot | null>(null);
  const shown = useMemo(() => noiseOf(data?.stars ?? []), [data]);
  if (!shown) return <p className="text-quiet">Looking at all stars …</p>;
  const { points, model, x, y, ratio } = shown;
  const choose = (event: React.MouseEvent) => {
    const u = plot.current;
    if (!u) return;
    const frame = u.over.getBoundingClientRect();
    const at = { x: event.clientX - frame.left, y: event.clientY - frame.top };
    const row = nearestTo(
      points,
      (p) => [u.valToPos(p.magnitude, "x"), u.valToPos(p.log, "y")],
      at,
    );
    if (row !== null) set({ star: row });
  };
  const chosen = points.find((p) => p.row === star);
  return (
    <div className="cursor-pointer" onClick={choose}>
      <Chart
        className="h-56"
        testId="noise"
        x={x}
        y={y}
        ticks={decades(y)}
        label="scatter, mmag"
        xLabel={`${filter}, mag`}
        xAxis
        onPlace={(u) => (plot.current = u)}
        draw={(ctx, place) => {
          ctx.lineWidth = place.ratio;
          for (const p of points) {
            const target = p.row === campaign.cast?.target;
            ctx.fillStyle = colour(target ? "--beam" : p.odd ? "--trouble" : "--ink");
            ctx.globalAlpha = target || p.odd ? 1 : 0.6;
            ctx.beginPath();
            const size = target ? 3.4 : 1.6;
            ctx.arc(place.x(p.magnitude), place.y(p.log), size * place.ratio, 0, 7);
            ctx.fill();
            ctx.globalAlpha = 1;
            if (p.row !== star) continue;
            ctx.strokeStyle = colour("--beam");
            ctx.beginPath();
            ctx.arc(place.x(p.magnitude), place.y(p.log), 6 * place.ratio, 0, 7);
            ctx.stroke();
          }
          ctx.strokeStyle = colour("--comparison");
          ctx.lineWidth = 1.5 * place.ratio;
          ctx.beginPath();
          model.forEach(([m, v], i) => ctx[i ? "lineTo" : "moveTo"](place.x(m), place.y(v)));
          ctx.stroke();
        }}
      />
      <p className="text-small text-quiet">
        The line is what the noise model asks for; stars scatter by {fixed(ratio, 2)} of it in the
        middle. The large dot is the target, bright ones scatter by three times and more
        {chosen && `. ${chosen.name}: ${fixed(chosen.times, 1)} times`}.
      </p>
    </div>
  );
}
