import { useMemo } from "react";
import type { Scale } from "../../api/types";
import { Chart } from "../../charts/Chart";
import { colour } from "../../ui/words";
import { chartOf, indexWords } from "./scale";

/** The field's stars: catalogue less measured magnitude against colour, with the line they give. */
export function ColourChart({ scale }: { scale: Scale }) {
  const { x, y, line } = useMemo(() => chartOf(scale), [scale]);
  return (
    <>
      <Chart
        className="h-40"
        testId="colour-terms"
        x={x}
        y={y}
        digits={2}
        label="off, mag"
        xLabel={indexWords(scale.index)}
        xAxis
        draw={(ctx, place) => {
          ctx.lineWidth = place.ratio;
          for (const star of scale.stars) {
            const [px, py] = [place.x(star.colour), place.y(star.offset_mag)];
            const sigma = star.offset_uncertainty ?? 0;
            ctx.strokeStyle = colour("--comparison");
            ctx.fillStyle = colour(star.used ? "--comparison" : "--panel");
            ctx.globalAlpha = 0.35;
            ctx.beginPath();
            ctx.moveTo(px, place.y(star.offset_mag - sigma));
            ctx.lineTo(px, place.y(star.offset_mag + sigma));
            ctx.stroke();
            ctx.globalAlpha = 1;
            ctx.beginPath();
            ctx.arc(px, py, 2 * place.ratio, 0, 7);
            ctx.fill();
            if (!star.used) ctx.stroke();
          }
          if (line) {
            ctx.strokeStyle = colour("--ink");
            ctx.beginPath();
            line.forEach(([c, v], i) => ctx[i ? "lineTo" : "moveTo"](place.x(c), place.y(v)));
            ctx.stroke();
          }
          if (scale.target_colour != null) {
            ctx.strokeStyle = colour("--beam");
            ctx.beginPath();
            ctx.moveTo(place.x(scale.target_colour), place.y(y[0]));
            ctx.lineTo(place.x(scale.target_colour), place.y(y[1]));
            ctx.stroke();
          }
        }}
      />
      <p className="mb-2 text-small text-quiet">
        Catalogue less measured, {scale.stars.filter((s) => s.used).length} stars; hollow: off the
        line and left out. The upright line is the target’s colour.
      </p>
    </>
  );
}
