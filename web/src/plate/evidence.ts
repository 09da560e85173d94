import type { Exposure } from "../api/types";
import { colour } from "../ui/words";
import { apply, type Affine } from "./view";

/** What shows of an exposure's trouble. */
export interface Evidence {
  /** Ends of trails, in pixels of the image. */
  trails: readonly (readonly number[])[];
  /** Parts of the frame that something stands before: column and row, of `parts` each. */
  shaded: readonly (readonly number[])[];
  parts: number;
  /** The direction in which stars are drawn out, and how far; null where they are round. */
  drawn: { angle: number; elongation: number } | null;
}

const DRAWN_OUT = 1.25;
const NEEDLE_PX = 46;

export function evidenceOf(e: Exposure | null, parts: number): Evidence | null {
  if (!e) return null;
  const drawn = e.elongation !== null && e.angle_deg !== null && e.elongation > DRAWN_OUT;
  return {
    trails: e.trails,
    shaded: e.shaded,
    parts,
    drawn: drawn ? { angle: e.angle_deg!, elongation: e.elongation! } : null,
  };
}

/** Trails between two dashed lines, shaded parts hatched, and a needle along which stars are drawn. */
export function drawEvidence(
  ctx: CanvasRenderingContext2D,
  evidence: Evidence,
  pixelToScreen: Affine,
  image: { width: number; height: number },
): void {
  ctx.save();
  ctx.strokeStyle = colour("--plate-trouble");
  ctx.lineWidth = 1;
  for (const [x0, y0, x1, y1] of evidence.trails) {
    const [from, to] = [
      apply(pixelToScreen, { x: x0!, y: y0! }),
      apply(pixelToScreen, { x: x1!, y: y1! }),
    ];
    const length = Math.hypot(to.x - from.x, to.y - from.y) || 1;
    const [nx, ny] = [(-(to.y - from.y) / length) * 9, ((to.x - from.x) / length) * 9];
    ctx.setLineDash([7, 5]);
    ctx.beginPath();
    for (const side of [-1, 1]) {
      ctx.moveTo(from.x + side * nx, from.y + side * ny);
      ctx.lineTo(to.x + side * nx, to.y + side * ny);
    }
    ctx.stroke();
  }
  ctx.setLineDash([]);
  const [wide, tall] = [image.width / evidence.parts, image.height / evidence.parts];
  for (const [column, row] of evidence.shaded) hatch(ctx, column!, row!, wide, tall, pixelToScreen);
  if (evidence.drawn) needle(ctx, evidence.drawn, pixelToScreen, image);
  ctx.restore();
}

function hatch(
  ctx: CanvasRenderingContext2D,
  column: number,
  row: number,
  wide: number,
  tall: number,
  pixelToScreen: Affine,
): void {
  const corner = (x: number, y: number) => apply(pixelToScreen, { x: x - 0.5, y: y - 0.5 });
  const [left, bottom] = [column * wide, row * tall];
  const corners = [
    corner(left, bottom),
    corner(left + wide, bottom),
    corner(left + wide, bottom + tall),
    corner(left, bottom + tall),
  ];
  ctx.save();
  ctx.beginPath();
  corners.forEach((p, i) => (i ? ctx.lineTo(p.x, p.y) : ctx.moveTo(p.x, p.y)));
  ctx.closePath();
  ctx.clip();
  const [xs, ys] = [corners.map((p) => p.x), corners.map((p) => p.y)];
  const [x0, x1, y0, y1] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
  ctx.globalAlpha = 0.55;
  ctx.beginPath();
  for (let k = Math.floor((x0 - (y1 - y0)) / 9) * 9; k < x1; k += 9) {
    ctx.moveTo(k, y0);
    ctx.lineTo(k + (y1 - y0), y1);
  }
  ctx.stroke();
  ctx.restore();
}

function needle(
  ctx: CanvasRenderingContext2D,
  { angle, elongation }: NonNullable<Evidence["drawn"]>,
  pixelToScreen: Affine,
  image: { width: number; height: number },
): void {
  const middle = { x: image.width / 2, y: image.height / 2 };
  const turn = (angle * Math.PI) / 180;
  const centre = apply(pixelToScreen, middle);
  const tip = apply(pixelToScreen, {
    x: middle.x + Math.cos(turn),
    y: middle.y + Math.sin(turn),
  });
  const long = Math.hypot(tip.x - centre.x, tip.y - centre.y) || 1;
  const [ux, uy] = [(tip.x - centre.x) / long, (tip.y - centre.y) / long];
  ctx.lineWidth = 1.5;
  ctx.beginPath();
  ctx.moveTo(centre.x - ux * NEEDLE_PX, centre.y - uy * NEEDLE_PX);
  ctx.lineTo(centre.x + ux * NEEDLE_PX, centre.y + uy * NEEDLE_PX);
  ctx.stroke();
  const across = NEEDLE_PX / Math.max(elongation, 1);
  ctx.lineWidth = 1;
  ctx.beginPath();
  ctx.moveTo(centre.x + uy * across, centre.y - ux * across);
  ctx.lineTo(centre.x - uy * across, centre.y + ux * across);
  ctx.stroke();
}
