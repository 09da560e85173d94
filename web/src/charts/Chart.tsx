import { useEffect, useRef, type ReactNode } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { INSET_LEFT, INSET_RIGHT } from "../rail/axis";
import { useApp } from "../state";
import { useSize } from "../ui/canvas";
import { colour } from "../ui/words";
import { labelsOf, timeOfDay } from "./extent";

export type Range = [number, number];

/** Where values are on the canvas, in device pixels, for what draws on a chart. */
export interface Place {
  x: (value: number) => number;
  y: (value: number) => number;
  /** Device pixels a CSS pixel. */
  ratio: number;
}

interface Props {
  x: Range;
  y: Range;
  label: string;
  xLabel?: string;
  /** Magnitudes: bright is up. */
  reversed?: boolean;
  xAxis?: boolean;
  /** What is counted in x: only whole numbers stand along it. */
  counted?: boolean;
  /** x are hours of a day, and stand along it as times of day. */
  ofDay?: boolean;
  /** Vertical hairlines, in units of x, where there is no axis of its own. */
  lines?: number[];
  digits?: number;
  /** Rows in place of values on the axis: where they are; they are numbered from 1. */
  rows?: number[];
  /** What they are called in place of their numbers. */
  rowWords?: string[];
  /** Places on the axis with words of their own, as on a scale of logarithms. */
  ticks?: { at: number; words: string }[];
  draw: (ctx: CanvasRenderingContext2D, place: Place, u: uPlot) => void;
  onPlace?: (u: uPlot) => void;
  children?: ReactNode;
  className?: string;
  testId?: string;
}

/** Steps along an axis of what is counted. */
const COUNTS = [0, 1, 2, 3, 4, 5].flatMap((n) => [1, 2, 5].map((m) => m * 10 ** n));
/** Steps of times of day, in hours. */
const OF_DAY = [1 / 12, 1 / 6, 0.25, 0.5, 1, 2, 3, 6, 12];

/** From values to device pixels along an axis, told once by its ends: it is asked for each mark. */
function straight(u: uPlot, axis: "x" | "y", [low, high]: Range): (value: number) => number {
  const from = u.valToPos(low, axis, true);
  const each = (u.valToPos(high, axis, true) - from) / (high - low);
  return (value) => from + (value - low) * each;
}

/** A chart in the one style of all charts: hairline axes, units on the axis, marks drawn by us. */
export function Chart(props: Props) {
  const [box, size] = useSize<HTMLDivElement>();
  const host = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const latest = useRef(props);
  const look = useApp((s) => s.look);

  const { draw, label, xLabel, reversed } = props;
  const [[left, right], [low, high]] = [props.x, props.y];
  const lines = props.lines?.join() ?? "";
  useEffect(() => {
    latest.current = props;
  });
  // Drawn again only where what is drawn changed, not whenever something about it is rendered.
  useEffect(() => {
    plot.current?.setData(plot.current.data);
  }, [draw, left, right, low, high, label, reversed, lines]);

  useEffect(() => {
    if (!host.current || size.width < 20 || size.height < 20) return;
    const quiet = colour("--quiet");
    const axis = {
      stroke: quiet,
      font: "11px 'Atkinson Hyperlegible Mono'",
      labelFont: "12px 'Atkinson Hyperlegible Next'",
      grid: { stroke: colour("--line"), width: 1 },
      ticks: { show: false },
    };
    const made = new uPlot(
      {
        ...size,
        padding: [18, INSET_RIGHT, latest.current.xAxis ? 0 : 4, 0],
        legend: { show: false },
        cursor: { show: false },
        series: [{}, { show: true, stroke: "transparent", points: { show: false } }],
        scales: {
          x: { time: false, range: () => latest.current.x },
          y: { range: () => latest.current.y, dir: latest.current.reversed ? -1 : 1 },
        },
        axes: [
          {
            ...axis,
            show: latest.current.xAxis ?? false,
            label: latest.current.xLabel,
            labelSize: 18,
            size: 26,
            ...(latest.current.counted && { incrs: COUNTS }),
            ...(latest.current.ofDay && { incrs: OF_DAY }),
            values: (_u, splits) =>
              latest.current.ofDay ? splits.map(timeOfDay) : labelsOf(splits),
          },
          {
            ...axis,
            label: latest.current.label,
            labelSize: 16,
            size: INSET_LEFT - 16,
            gap: 3,
            space: 28,
            ...(latest.current.rows && {
              splits: () => latest.current.rows!,
              grid: { ...axis.grid, show: false },
            }),
            ...(latest.current.ticks && {
              splits: () => latest.current.ticks!.map((tick) => tick.at),
            }),
            values: (_u, splits) =>
              latest.current.ticks?.map((tick) => tick.words) ??
              latest.current.rowWords ??
              latest.current.rows?.map((_, n) => String(n + 1)) ??
              labelsOf(splits, latest.current.digits),
          },
        ],
        hooks: {
          draw: [
            (u) => {
              const { ctx, bbox } = u;
              ctx.save();
              ctx.beginPath();
              ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
              ctx.clip();
              const place: Place = {
                x: straight(u, "x", latest.current.x),
                y: straight(u, "y", latest.current.y),
                ratio: uPlot.pxRatio,
              };
              ctx.strokeStyle = colour("--line");
              ctx.lineWidth = place.ratio;
              for (const line of latest.current.lines ?? []) {
                const x = Math.round(place.x(line)) + 0.5;
                ctx.beginPath();
                ctx.moveTo(x, bbox.top);
                ctx.lineTo(x, bbox.top + bbox.height);
                ctx.stroke();
              }
              latest.current.draw(ctx, place, u);
              ctx.restore();
              latest.current.onPlace?.(u);
            },
          ],
        },
      },
      [
        [0, 1],
        [0, 0],
      ],
      host.current,
    );
    plot.current = made;
    return () => {
      made.destroy();
      plot.current = null;
    };
  }, [size, look, label, xLabel]);

  return (
    <div
      ref={box}
      data-testid={props.testId}
      className={`relative min-h-0 min-w-0 ${props.className ?? ""}`}
    >
      <div
        ref={host}
        role="img"
        aria-label={`${props.label}, ${props.xAxis ? (props.xLabel ?? "") : "over time"}`}
        className="absolute inset-0"
      />
      {props.children}
    </div>
  );
}

/** A range that holds points with their whole uncertainties, limits, and air for the marks. */
export function rangeOfMarks(
  marks: readonly {
    y: readonly (number | null)[];
    sigma: readonly (number | null)[];
    limit?: readonly (number | null)[];
  }[],
  least: number,
  empty: Range,
): Range {
  const ends = marks.flatMap((m) =>
    m.y.flatMap((y, i) => (y === null ? [] : [y - (m.sigma[i] ?? 0), y + (m.sigma[i] ?? 0)])),
  );
  const limits = marks.flatMap((m) => m.limit ?? []);
  const [low, high] = rangeOf([...ends, ...limits], least, empty);
  const air = 0.06 * (high - low);
  return [low - air, high + air];
}

/** A range with air around the values; a given one where there are none. */
export function rangeOf(values: readonly (number | null)[], least: number, empty: Range): Range {
  let [low, high] = [Infinity, -Infinity];
  for (const v of values) {
    if (v === null || !Number.isFinite(v)) continue;
    if (v < low) low = v;
    if (v > high) high = v;
  }
  if (low > high) return empty;
  const span = Math.max(high - low, least);
  const middle = (low + high) / 2;
  return [middle - span * 0.56, middle + span * 0.56];
}
