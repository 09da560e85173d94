import { useRef } from "react";
import type { ImageInfo } from "../api/types";
import { fixed } from "../ui/words";
import type { Stretch } from "./painter";

const WIDTH = 168;
const HEIGHT = 40;

interface Props {
  info: ImageInfo;
  stretch: Stretch;
  /** What "reset" goes back to. */
  usual: Stretch;
  /** Without a unit: a flat, relative to 1. */
  unit: string;
  onChange: (stretch: Stretch) => void;
}

/** Two handles on a small histogram; in units of the noise, so that every sky looks alike. */
export function StretchControl({ info, stretch, usual, unit, onChange }: Props) {
  const svg = useRef<SVGSVGElement>(null);
  const grabbed = useRef<"low" | "high" | null>(null);
  const span = info.histogram_step * info.histogram.length;
  const most = Math.log1p(Math.max(...info.histogram));
  const range = stretch.held ?? {
    low: info.sky + stretch.low * info.noise,
    high: info.sky + stretch.high * info.noise,
  };
  // A square root gives the sky as much room as the stars.
  const toX = (v: number) =>
    Math.sqrt(Math.min(Math.max((v - info.histogram_low) / span, 0), 1)) * WIDTH;
  const toValue = (x: number) => info.histogram_low + (x / WIDTH) ** 2 * span;

  function move(handle: "low" | "high", value: number): void {
    const gap = info.noise * 0.5;
    const next =
      handle === "low"
        ? { low: Math.min(value, range.high - gap), high: range.high }
        : { low: range.low, high: Math.max(value, range.low + gap) };
    if (stretch.held) onChange({ ...stretch, held: next });
    else
      onChange({
        low: (next.low - info.sky) / info.noise,
        high: (next.high - info.sky) / info.noise,
        held: null,
      });
  }

  function at(event: React.PointerEvent): number {
    return toValue(event.clientX - svg.current!.getBoundingClientRect().left);
  }

  const handle = (which: "low" | "high") => (
    <g
      role="slider"
      tabIndex={0}
      aria-label={which === "low" ? "shown black" : "shown white"}
      aria-valuenow={Math.round(range[which])}
      onKeyDown={(event) => {
        const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
        if (!step) return;
        event.stopPropagation();
        move(which, range[which] + step * info.noise * (which === "low" ? 0.5 : 4));
      }}
    >
      <line
        x1={toX(range[which])}
        x2={toX(range[which])}
        y1={0}
        y2={HEIGHT}
        stroke="var(--beam)"
        strokeWidth={1.5}
      />
      <path
        d={`M${toX(range[which]) - 4},${HEIGHT} h8 l-4,-6 z`}
        fill={which === "low" ? "var(--ground)" : "var(--beam)"}
        stroke="var(--beam)"
      />
    </g>
  );

  return (
    <div className="rounded-[3px] border border-line bg-ground/95 px-2 pt-1.5 pb-1">
      <svg
        ref={svg}
        data-testid="stretch"
        width={WIDTH}
        height={HEIGHT}
        className="block cursor-ew-resize touch-none overflow-visible"
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          const value = at(event);
          const x = toX(value);
          grabbed.current =
            Math.abs(x - toX(range.low)) < Math.abs(x - toX(range.high)) ? "low" : "high";
          move(grabbed.current, value);
        }}
        onPointerMove={(event) => grabbed.current && move(grabbed.current, at(event))}
        onPointerUp={() => (grabbed.current = null)}
      >
        {info.histogram.map((count, i) => {
          const x = toX(info.histogram_low + i * info.histogram_step);
          const next = toX(info.histogram_low + (i + 1) * info.histogram_step);
          const tall = (Math.log1p(count) / most) * (HEIGHT - 4);
          return (
            <rect
              key={i}
              x={x}
              y={HEIGHT - tall}
              width={Math.max(next - x - 0.5, 0.5)}
              height={tall}
              fill="var(--quiet)"
              opacity={0.55}
            />
          );
        })}
        {handle("low")}
        {handle("high")}
      </svg>
      <div className="num mt-1 flex gap-2 text-quiet">
        <span>
          {fixed(range.low, unit ? 0 : 3)}–{fixed(range.high, unit ? 0 : 3)} {unit}
        </span>
        <button
          className={`ml-auto ${stretch.held ? "text-beam" : "hover:text-ink"}`}
          title={
            stretch.held
              ? "The same values for every image; press for one's own stretch each"
              : "Each image by its own level and noise; press to hold these values"
          }
          onClick={() => onChange({ ...stretch, held: stretch.held ? null : range })}
        >
          {stretch.held ? "held" : "own"}
        </button>
        <button className="hover:text-ink" onClick={() => onChange(usual)}>
          reset
        </button>
      </div>
    </div>
  );
}
