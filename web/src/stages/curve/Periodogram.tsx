import { useCallback, useMemo, useRef } from "react";
import type uPlot from "uplot";
import type { PeriodsFound } from "../../api/types";
import { Chart, rangeOf, type Place } from "../../charts/Chart";
import { colour } from "../../ui/words";
import { periodWords, typed, useShown } from "./view";

const NEAR_PX = 8;

/** Share of the scatter that each period takes away, against cycles a day; a click takes one. */
export function Periodogram({ found, busy }: { found: PeriodsFound | undefined; busy: boolean }) {
  const period = useShown((s) => s.period);
  const plot = useRef<uPlot | null>(null);
  const chosen = typed(period);
  const x = useMemo(() => rangeOf(found?.frequency ?? [], 0.1, [0, 10]), [found]);
  const y: [number, number] = [0, 1.08];
  const draw = useCallback(
    (ctx: CanvasRenderingContext2D, place: Place) => {
      if (!found) return;
      const line = (values: readonly number[]) => {
        ctx.beginPath();
        found.frequency.forEach((f, i) =>
          ctx[i ? "lineTo" : "moveTo"](place.x(f), place.y(values[i]!)),
        );
        ctx.stroke();
      };
      ctx.lineWidth = place.ratio;
      ctx.strokeStyle = colour("--quiet");
      ctx.globalAlpha = 0.35;
      line(found.window);
      ctx.globalAlpha = 1;
      if (found.level < 1) {
        ctx.setLineDash([5 * place.ratio, 4 * place.ratio]);
        ctx.beginPath();
        ctx.moveTo(place.x(x[0]), place.y(found.level));
        ctx.lineTo(place.x(x[1]), place.y(found.level));
        ctx.stroke();
        ctx.setLineDash([]);
      }
      ctx.strokeStyle = colour("--ink");
      line(found.power);
      ctx.fillStyle = colour("--ink");
      ctx.font = `${11 * place.ratio}px 'Atkinson Hyperlegible Mono'`;
      ctx.textAlign = "center";
      found.peaks.slice(0, 5).forEach((peak, n) => {
        const at = [place.x(1 / peak.period_d), place.y(Math.min(peak.power, 1))] as const;
        ctx.fillText(String(n + 1), at[0], at[1] - 5 * place.ratio);
      });
      if (chosen > 0) {
        ctx.strokeStyle = colour("--beam");
        ctx.lineWidth = 1.5 * place.ratio;
        ctx.beginPath();
        ctx.moveTo(place.x(1 / chosen), place.y(0));
        ctx.lineTo(place.x(1 / chosen), place.y(y[1]));
        ctx.stroke();
      }
    },
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [found, chosen, x],
  );
  const choose = (event: React.MouseEvent) => {
    const u = plot.current;
    if (!u || !found) return;
    const at = event.clientX - u.over.getBoundingClientRect().left;
    const frequency = u.posToVal(at, "x");
    if (!(frequency > 0)) return;
    // Near a peak that peak is meant.
    const near = found.peaks
      .map((p) => ({ p, away: Math.abs(u.valToPos(1 / p.period_d, "x") - at) }))
      .sort((a, b) => a.away - b.away)[0];
    const text =
      near && near.away < NEAR_PX
        ? periodWords(near.p.period_d, near.p.uncertainty_d)
        : (1 / frequency).toFixed(6);
    useShown.setState({ period: text });
  };
  return (
    <div
      className={`relative flex min-h-0 cursor-pointer ${busy ? "opacity-60" : ""}`}
      onClick={choose}
    >
      <Chart
        className="min-h-0 flex-1"
        testId="periodogram"
        x={x}
        y={y}
        label="share explained"
        xLabel="cycles a day"
        xAxis
        onPlace={(u) => (plot.current = u)}
        draw={draw}
      />
      <span className="pointer-events-none absolute top-0.5 right-4 left-[66px] truncate text-small text-quiet">
        {busy
          ? "searching …"
          : found?.problem ||
            (found &&
              `${found.points} points over ${found.span_d.toFixed(2)} d, searched to ${found.searched_per_d.toPrecision(3)} a day; faint: the sampling’s own peaks${found.level < 1 ? "; dashed: noise reaches it once in a hundred" : ""}`)}
      </span>
    </div>
  );
}
