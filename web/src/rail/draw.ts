import type { Exposure, Sky } from "../api/types";
import type { Quality } from "../state";
import { onceEach } from "../ui/once";
import { colour, filterColour } from "../ui/words";
import { INSET_LEFT, INSET_RIGHT, toPixel, type Axis } from "./axis";
import { columnsOf, type LinePoint } from "./line";
import { strokesOf } from "./strokes";
import { tickLabels, ticks, toAxis } from "./timeline";

export interface RailPicture {
  axis: Axis;
  sky: Sky | undefined;
  filters: string[];
  lines: readonly Quality[];
  limits: readonly { quality: Quality; value: number }[];
  /** The filter whose exposures the line joins. */
  lineFilter: string;
  selection: ReadonlySet<number>;
  width: number;
  height: number;
}

export interface Lane {
  filter: string;
  top: number;
  base: number;
}

const LABELS = 18;
const FOOT = 6;
const BELOW = 8;

/** Lanes from top to bottom; set-aside exposures hang below a lane's base. */
export function lanesOf(filters: readonly string[], height: number): Lane[] {
  const room = (height - LABELS - FOOT) / Math.max(filters.length, 1);
  return filters.map((filter, i) => ({
    filter,
    top: LABELS + i * room + 2,
    base: LABELS + (i + 1) * room - BELOW - 2,
  }));
}

export function drawRail(ctx: CanvasRenderingContext2D, picture: RailPicture): void {
  const { width, height } = picture;
  ctx.clearRect(0, 0, width, height);
  if (!picture.axis.exposures.length) return;
  ctx.save();
  ctx.beginPath();
  ctx.rect(INSET_LEFT - 1, 0, width - INSET_LEFT - INSET_RIGHT + 2, height);
  ctx.clip();
  drawSky(ctx, picture);
  drawTicks(ctx, picture);
  drawStrokes(ctx, picture);
  drawQuality(ctx, picture);
  ctx.restore();
}

function drawSky(ctx: CanvasRenderingContext2D, { axis, sky, height }: RailPicture): void {
  const width = ctx.canvas.clientWidth;
  const px = (jd: number) => toPixel(axis.domain, toAxis(axis.timeline, jd), width);
  for (const segment of axis.timeline.segments) {
    const left = toPixel(axis.domain, segment.offset, width);
    const right = toPixel(axis.domain, segment.offset + (segment.end - segment.start) * 24, width);
    ctx.fillStyle = colour("--panel");
    ctx.fillRect(left, LABELS, right - left, height - LABELS);
    const night = sky?.nights.find((n) => n.night === segment.night);
    if (!night) continue;
    const inside = night.jd_utc
      .map((_, i) => i)
      .filter((i) => night.jd_utc[i]! >= segment.start && night.jd_utc[i]! <= segment.end);
    inside.forEach((i, k) => {
      const x = px(night.jd_utc[i]!);
      const next = inside[k + 1];
      const wide = (next === undefined ? right : px(night.jd_utc[next]!)) - x + 0.6;
      const sun = night.sun_deg[i]!;
      if (sun > -18) {
        ctx.globalAlpha = Math.min((sun + 18) / 18, 1);
        ctx.fillStyle = colour(sun > 0 ? "--day" : "--dusk");
        ctx.fillRect(x, LABELS, wide, height - LABELS);
      }
      const moon = night.moon_deg[i]!;
      if (moon > 0) {
        ctx.globalAlpha = 0.25 + 0.75 * night.moon_lit;
        ctx.fillStyle = colour("--moon");
        ctx.fillRect(x, LABELS, wide, 2);
      }
    });
    ctx.globalAlpha = 0.7;
    ctx.strokeStyle = colour("--quiet");
    ctx.setLineDash([1, 3]);
    ctx.beginPath();
    inside.forEach((i) => {
      const y = height - (Math.max(night.target_deg[i]!, 0) / 90) * (height - LABELS - 4);
      ctx.lineTo(px(night.jd_utc[i]!), y);
    });
    ctx.stroke();
    ctx.setLineDash([]);
    ctx.globalAlpha = 1;
  }
}

function drawTicks(ctx: CanvasRenderingContext2D, { axis, width, height }: RailPicture): void {
  ctx.font = "11px 'Atkinson Hyperlegible Mono'";
  ctx.textBaseline = "middle";
  ctx.textAlign = "center";
  const room = width - INSET_LEFT - INSET_RIGHT;
  const found = ticks(axis.timeline, axis.domain, room, axis.clock);
  const place = (at: number) => Math.round(toPixel(axis.domain, at, width)) + 0.5;
  ctx.strokeStyle = colour("--line");
  for (const tick of found) {
    ctx.beginPath();
    ctx.moveTo(place(tick.at), LABELS - 3);
    ctx.lineTo(place(tick.at), height);
    ctx.stroke();
  }
  const wide = (text: string) => ctx.measureText(text).width;
  for (const label of tickLabels(found, place, wide, INSET_LEFT, width - INSET_RIGHT)) {
    ctx.fillStyle = colour(label.date ? "--ink" : "--quiet");
    ctx.fillText(label.text, label.x, LABELS / 2);
  }
}

function drawStrokes(ctx: CanvasRenderingContext2D, picture: RailPicture): void {
  const { axis, filters, width, height, selection } = picture;
  const lanes = new Map(lanesOf(filters, height).map((lane) => [lane.filter, lane]));
  const place = (e: Exposure) => toPixel(axis.domain, axis.hours.get(e.id) ?? 0, width);
  const shown = axis.domain[1] - axis.domain[0];
  const apart = (width * axis.timeline.hours) / shown / Math.max(axis.exposures.length, 1);
  const thick = Math.max(1, Math.min(4, apart * 0.7));
  for (const stroke of strokesOf(axis.exposures, place, apart, selection)) {
    const { x } = stroke;
    const lane = lanes.get(stroke.filter);
    if (!lane || x < INSET_LEFT - 4 || x > width) continue;
    const tone = colour(filterColour(stroke.filter));
    if (stroke.chosen) {
      ctx.fillStyle = colour("--beam");
      ctx.globalAlpha = 0.28;
      ctx.fillRect(x - thick, lane.top - 2, 2 * thick, lane.base - lane.top + BELOW + 4);
      ctx.globalAlpha = 1;
    }
    if (stroke.what !== "standing") {
      ctx.strokeStyle = stroke.what === "broken" ? colour("--trouble") : tone;
      ctx.lineWidth = 1;
      ctx.strokeRect(x - thick / 2, lane.base + 2.5, Math.max(thick, 2), BELOW - 3);
      continue;
    }
    ctx.globalAlpha = stroke.ink;
    ctx.fillStyle = tone;
    const tall = (lane.base - lane.top) * stroke.share;
    ctx.fillRect(x - thick / 2, lane.base - tall, thick, tall);
    if (stroke.proposed) {
      ctx.globalAlpha = 1;
      ctx.fillStyle = colour("--beam");
      ctx.fillRect(x - thick / 2, lane.base + 2, thick, 3);
    }
  }
  ctx.globalAlpha = 1;
}

/** The range of a quality over the exposures that take part, but for the outermost hundredths. */
export const qualityRange = onceEach(
  (exposures: readonly Exposure[], quality: string): [number, number] | null => {
    const values = Float64Array.from(
      exposures
        .filter((e) => !e.trouble && !e.aside_by)
        .map((e) => e[quality as Quality])
        .filter((v): v is number => v !== null),
    ).sort();
    if (!values.length) return null;
    const low = values[Math.floor(values.length * 0.01)]!;
    const high = values[Math.ceil(values.length * 0.99) - 1]!;
    return low < high ? [low, high] : [low - 0.5, high + 0.5];
  },
);

/** How each line is dashed, so that it is told from the others without its colour. */
export const DASHES: readonly number[][] = [[], [6, 3], [2, 3], [8, 3, 2, 3]];

/** How strongly the reach of close exposures shows beside the line through their middle. */
const REACH = 0.3;
/** Dark on either side of a line: over strokes that stand side by side it is of their colour. */
const EDGE_PX = 3.5;

function drawQuality(ctx: CanvasRenderingContext2D, picture: RailPicture): void {
  const { axis, lineFilter, lines, limits, width, height } = picture;
  lines.forEach((quality, n) => {
    const range = qualityRange(axis.exposures, quality);
    if (!range) return;
    const share = (v: number) => (v - range[0]) / (range[1] - range[0]);
    const at = (s: number) => height - FOOT - 4 - s * (height - LABELS - FOOT - 10);
    const y = (v: number) => at(Math.min(Math.max(share(v), -0.08), 1.08));
    ctx.strokeStyle = colour("--ink");
    ctx.globalAlpha = n ? 0.6 : 0.8;
    ctx.lineWidth = 1;
    ctx.setLineDash(DASHES[n % DASHES.length]!);
    const points: LinePoint[] = [];
    for (const e of axis.exposures) {
      const value = e[quality];
      if (e.filter !== lineFilter || value === null || e.trouble) continue;
      const x = toPixel(axis.domain, axis.hours.get(e.id) ?? 0, width);
      points.push({ x, jd: e.jd_utc, night: e.night, value });
    }
    const columns = columnsOf(points);
    ctx.save();
    ctx.setLineDash([]);
    ctx.globalAlpha *= REACH;
    ctx.beginPath();
    for (const { x, low, high, count } of columns) {
      if (count === 1) continue;
      ctx.moveTo(x, y(low));
      ctx.lineTo(x, y(high));
    }
    ctx.stroke();
    ctx.restore();
    ctx.beginPath();
    for (const { x, middle, joined } of columns) {
      if (joined) ctx.lineTo(x, y(middle));
      else ctx.moveTo(x, y(middle));
    }
    ctx.save();
    ctx.setLineDash([]);
    ctx.strokeStyle = colour("--ground");
    ctx.lineWidth = EDGE_PX;
    ctx.stroke();
    ctx.restore();
    ctx.stroke();
    ctx.setLineDash([]);
    ctx.strokeStyle = colour("--trouble");
    for (const limit of limits) {
      if (limit.quality !== quality || share(limit.value) < -0.08 || share(limit.value) > 1.08)
        continue;
      const level = Math.round(y(limit.value)) + 0.5;
      ctx.beginPath();
      ctx.moveTo(INSET_LEFT, level);
      ctx.lineTo(width - INSET_RIGHT, level);
      ctx.stroke();
    }
  });
  ctx.globalAlpha = 1;
}
