import { useRef } from "react";
import type uPlot from "uplot";
import type { Radii, StarOnExposure } from "../../api/types";
import { Chart } from "../../charts/Chart";
import { colour, fixed } from "../../ui/words";

interface Props {
  radii: Radii;
  /** In pixels, as on the night of the exposure. */
  radiiPx: number[];
  star: StarOnExposure | undefined;
  onStep: (step: number) => void;
}

const CURVES = [
  { key: "growth", tone: "--ink", dash: [], words: "light inside" },
  { key: "snr", tone: "--comparison", dash: [7, 3], words: "signal to noise" },
  { key: "scatter", tone: "--check", dash: [2, 3], words: "night scatter of constant stars" },
] as const;

/** Growth of light, signal to noise and night scatter by radius, with one handle for the radius. */
export function RadiusChart({ radii, radiiPx: xs, star, onStep }: Props) {
  const plot = useRef<uPlot | null>(null);
  const held = useRef(false);
  const snr = star?.snr ?? radii.target_snr;
  const share = (values: (number | null)[]) => {
    const most = Math.max(...values.map((v) => v ?? 0));
    return values.map((v) => (v === null ? null : v / most));
  };
  const total = star?.counts_adu.at(-1) ?? null;
  const shown = {
    growth: star && total ? star.counts_adu.map((v) => (v === null ? null : v / total)) : [],
    snr: share(snr),
    scatter: share(radii.scatter_mag),
  };

  function step(event: React.PointerEvent): void {
    const u = plot.current;
    if (!u) return;
    const frame = event.currentTarget.getBoundingClientRect();
    const at = u.posToVal(event.clientX - frame.left - u.over.offsetLeft, "x");
    let best = 0;
    xs.forEach((x, i) => {
      if (Math.abs(x - at) < Math.abs(xs[best]! - at)) best = i;
    });
    if (best !== radii.step) onStep(best);
  }

  return (
    <Chart
      className="min-h-0 flex-1"
      testId="radius"
      x={[0, xs.at(-1)! * 1.06]}
      y={[0, 1.14]}
      label="share of the largest"
      xLabel="aperture radius, px"
      xAxis
      onPlace={(u) => (plot.current = u)}
      draw={(ctx, place) => {
        ctx.lineWidth = 1.6 * place.ratio;
        for (const { key, tone, dash } of CURVES) {
          ctx.strokeStyle = ctx.fillStyle = colour(tone);
          ctx.beginPath();
          shown[key].forEach((v, i) => v !== null && ctx.lineTo(place.x(xs[i]!), place.y(v)));
          ctx.setLineDash(dash.map((length) => length * place.ratio));
          ctx.stroke();
          ctx.setLineDash([]);
          shown[key].forEach((v, i) => {
            if (v === null) return;
            ctx.beginPath();
            ctx.arc(place.x(xs[i]!), place.y(v), 2.2 * place.ratio, 0, 7);
            ctx.fill();
          });
        }
        const x = place.x(xs[radii.step]!);
        ctx.strokeStyle = colour("--beam");
        ctx.beginPath();
        ctx.moveTo(x, place.y(1.14));
        ctx.lineTo(x, place.y(0));
        ctx.stroke();
        ctx.fillStyle = colour("--beam");
        ctx.beginPath();
        ctx.arc(x, place.y(0.04), 6 * place.ratio, 0, 7);
        ctx.fill();
      }}
    >
      <div
        role="slider"
        tabIndex={0}
        aria-label="aperture radius"
        aria-valuenow={radii.step}
        aria-valuetext={`${fixed(xs[radii.step], 2)} pixels`}
        className="absolute inset-0 cursor-ew-resize touch-none"
        onKeyDown={(event) => {
          const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
          if (!by) return;
          event.stopPropagation();
          onStep(Math.min(Math.max(radii.step + by, 0), xs.length - 1));
        }}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          held.current = true;
          step(event);
        }}
        onPointerMove={(event) => held.current && step(event)}
        onPointerUp={() => (held.current = false)}
      />
      <ul className="pointer-events-none absolute top-0.5 right-3 left-[66px] flex gap-5 overflow-hidden text-small whitespace-nowrap">
        {CURVES.map(({ key, tone, dash, words }) => (
          <li key={key} className="flex items-center gap-1.5">
            <svg width="20" height="2" aria-hidden>
              <line
                x2="20"
                y1="1"
                y2="1"
                strokeWidth="2"
                strokeDasharray={dash.join(" ")}
                style={{ stroke: `var(${tone})` }}
              />
            </svg>
            {words}
            <span className="num">
              {key === "growth"
                ? fixed((shown.growth[radii.step] ?? NaN) * 100, 1, "%")
                : key === "snr"
                  ? fixed(snr[radii.step], 0)
                  : fixed((radii.scatter_mag[radii.step] ?? NaN) * 1000, 1, "mmag")}
            </span>
          </li>
        ))}
      </ul>
    </Chart>
  );
}
