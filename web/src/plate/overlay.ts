import { checkLabel } from "../stages/cast/roles";
import type { Cast, Catalogue, MeasuredStars } from "../api/types";
import { colour } from "../ui/words";
import { drawEvidence, type Evidence } from "./evidence";
import { apply, invert, type Affine, type Point } from "./view";

export interface Overlay {
  catalogue: Catalogue | undefined;
  cast: Cast | null | undefined;
  measured: MeasuredStars | undefined;
  band: string;
  star: number | null;
  hovered: number | null;
  residuals: boolean;
  stars: boolean;
  /** Places of pixels that count as defects, in pixels of the image. */
  defects: {
    x: readonly number[];
    y: readonly number[];
    count: number;
    /** The stars that a repair would touch, and their aperture's radius. */
    stars: readonly { x: number; y: number }[];
    radius: number;
  } | null;
  /** What shows of an exposure's trouble; null where it is not asked for. */
  evidence: Evidence | null;
  /** Stars that were pointed at on this exposure, with their apertures, in pixels of the image. */
  pointed: readonly { x: number; y: number; radius: number }[];
  /** What is pointed at to be marked: x, y, width, height in pixels of the image. */
  marked: readonly [number, number, number, number] | null;
}

const MOST_STARS = 140;
/** Of an aperture's radius: how far from its star a mark of the catalogue is. */
const CLEAR = 0.8;
const ARROW_TIMES = 200;
const ROLE_PX = 11;
/** Pixels of the screen to one of the image from which apertures are drawn. */
export const NEAR = 1.8;

/** Draw a role's mark about a place: shape, letter and colour together, thin lines only. */
export function drawRole(
  ctx: CanvasRenderingContext2D,
  role: "target" | "comparison" | "check",
  x: number,
  y: number,
  size: number,
  label: string,
): void {
  ctx.lineWidth = 1.4;
  ctx.beginPath();
  if (role === "target") {
    ctx.strokeStyle = colour("--plate-beam");
    ctx.moveTo(x, y - size * 1.25);
    ctx.lineTo(x + size * 1.25, y);
    ctx.lineTo(x, y + size * 1.25);
    ctx.lineTo(x - size * 1.25, y);
    ctx.closePath();
  } else if (role === "check") {
    ctx.strokeStyle = colour("--plate-check");
    ctx.moveTo(x, y - size * 1.3);
    ctx.lineTo(x + size * 1.2, y + size * 0.8);
    ctx.lineTo(x - size * 1.2, y + size * 0.8);
    ctx.closePath();
  } else {
    ctx.strokeStyle = colour("--plate-comparison");
    for (const side of [-1, 1]) {
      ctx.moveTo(x + side * size * 0.55, y - size);
      ctx.lineTo(x + side * size, y - size);
      ctx.lineTo(x + side * size, y + size);
      ctx.lineTo(x + side * size * 0.55, y + size);
    }
  }
  ctx.stroke();
  if (!label) return;
  ctx.fillStyle = ctx.strokeStyle;
  ctx.font = "600 11px 'Atkinson Hyperlegible Next'";
  ctx.textAlign = "left";
  ctx.textBaseline = "middle";
  ctx.fillText(label, x + size * 1.35 + 3, y - size * 0.7);
}

/** Pixels that count as defects: their own outline when close, else a small cross. */
function drawDefects(
  ctx: CanvasRenderingContext2D,
  { x, y, count, stars, radius }: NonNullable<Overlay["defects"]>,
  pixelToScreen: Affine,
  screenPerPixel: number,
): void {
  const half = Math.max(screenPerPixel / 2, 1.5);
  ctx.strokeStyle = colour("--plate-beam");
  ctx.lineWidth = 1;
  ctx.globalAlpha = screenPerPixel > NEAR ? 0.9 : 0.55;
  ctx.beginPath();
  for (let i = 0; i < count; i++) {
    const p = apply(pixelToScreen, { x: x[i]!, y: y[i]! });
    if (screenPerPixel > NEAR) ctx.rect(p.x - half, p.y - half, 2 * half, 2 * half);
    else {
      ctx.moveTo(p.x - half, p.y);
      ctx.lineTo(p.x + half, p.y);
      ctx.moveTo(p.x, p.y - half);
      ctx.lineTo(p.x, p.y + half);
    }
  }
  ctx.stroke();
  ctx.globalAlpha = 1;
  ctx.strokeStyle = colour("--plate-ink");
  ctx.setLineDash([3, 3]);
  for (const star of stars) {
    const p = apply(pixelToScreen, star);
    ctx.beginPath();
    ctx.arc(p.x, p.y, Math.max(radius * screenPerPixel, 5), 0, 2 * Math.PI);
    ctx.stroke();
  }
  ctx.setLineDash([]);
}

/** A tick to either side of each star that was pointed at; its aperture once it is large enough. */
function drawPointed(
  ctx: CanvasRenderingContext2D,
  stars: Overlay["pointed"],
  pixelToScreen: Affine,
  screenPerPixel: number,
): void {
  ctx.strokeStyle = colour("--plate-beam");
  ctx.lineWidth = 1.2;
  for (const star of stars) {
    const { x, y } = apply(pixelToScreen, star);
    const radius = star.radius * screenPerPixel;
    const gap = Math.max(radius, 6);
    ctx.beginPath();
    for (const side of [-1, 1]) {
      ctx.moveTo(x + side * (gap + 2), y + gap * 0.5);
      ctx.lineTo(x + side * (gap + 2), y - gap * 0.5);
    }
    if (screenPerPixel > NEAR) {
      ctx.moveTo(x + radius, y);
      ctx.arc(x, y, radius, 0, 2 * Math.PI);
    }
    ctx.stroke();
  }
}

/** What is pointed at to be marked as a defect. */
function drawMarked(
  ctx: CanvasRenderingContext2D,
  [x, y, width, height]: NonNullable<Overlay["marked"]>,
  pixelToScreen: Affine,
): void {
  const corners = [
    [x - 0.5, y - 0.5],
    [x + width - 0.5, y - 0.5],
    [x + width - 0.5, y + height - 0.5],
    [x - 0.5, y + height - 0.5],
  ].map(([cx, cy]) => apply(pixelToScreen, { x: cx!, y: cy! }));
  ctx.strokeStyle = colour("--plate-beam");
  ctx.lineWidth = 1.5;
  ctx.beginPath();
  corners.forEach((p, i) => (i ? ctx.lineTo(p.x, p.y) : ctx.moveTo(p.x, p.y)));
  ctx.closePath();
  ctx.stroke();
}

/** The stars of the catalogue, the cast, and how far each measured star sits from its place. */
export function drawOverlay(
  ctx: CanvasRenderingContext2D,
  overlay: Overlay,
  toScreen: Affine,
  pixelToScreen: Affine,
  screenPerPixel: number,
  image: { width: number; height: number },
  screen: { width: number; height: number },
): void {
  const { catalogue, cast, measured } = overlay;
  if (overlay.defects) drawDefects(ctx, overlay.defects, pixelToScreen, screenPerPixel);
  drawPointed(ctx, overlay.pointed, pixelToScreen, screenPerPixel);
  if (overlay.marked) drawMarked(ctx, overlay.marked, pixelToScreen);
  if (overlay.evidence) drawEvidence(ctx, overlay.evidence, pixelToScreen, image);
  if (!catalogue) return;
  const toPixel = invert(pixelToScreen);
  const inImage = (p: Point) => {
    const { x, y } = apply(toPixel, p);
    return x > -0.5 && y > -0.5 && x < image.width - 0.5 && y < image.height - 0.5;
  };
  const onScreen = (p: Point) => p.x > 0 && p.y > 0 && p.x < screen.width && p.y < screen.height;
  const at = new Map<number, number>();
  catalogue.row.forEach((row, i) => at.set(row, i));
  const place = (i: number) =>
    apply(toScreen, { x: catalogue.east_arcsec[i]!, y: catalogue.north_arcsec[i]! });
  const near = measured !== undefined && screenPerPixel > NEAR;
  const circled = near ? withAperture(overlay) : new Set<number>();
  if (overlay.stars) {
    const magnitudes = catalogue.magnitudes[overlay.band] ?? Object.values(catalogue.magnitudes)[0];
    const found = catalogue.row
      .map((_, i) => ({ i, p: place(i), m: magnitudes?.[i] ?? Infinity }))
      .filter(({ i, p }) => inImage(p) && !circled.has(catalogue.row[i]!))
      .sort((a, b) => a.m - b.m);
    const bright = found.slice(0, MOST_STARS);
    const faintest = bright.findLast(({ m }) => m < Infinity)?.m ?? 15;
    ctx.strokeStyle = colour("--plate-quiet");
    ctx.lineWidth = 1;
    // Close up, fainter ones have room.
    for (const { i, p, m } of found.filter(({ p }) => onScreen(p)).slice(0, MOST_STARS)) {
      const byLight = Math.max(4, Math.min(4 + (faintest - m) * 1.4, 13));
      // Close up it stands about the star, not on it.
      const r = Math.max(byLight, CLEAR * (measured?.radius_px ?? 0) * screenPerPixel);
      ctx.globalAlpha = 0.8;
      ctx.beginPath();
      // Open to the north, so that it is never taken for a star or an aperture.
      ctx.arc(p.x, p.y, r, -Math.PI * 0.2, Math.PI * 1.2);
      ctx.stroke();
      if (catalogue.known_variable[i]) {
        ctx.beginPath();
        ctx.arc(p.x, p.y, r + 3, 0.15 * Math.PI, 0.85 * Math.PI);
        ctx.stroke();
      }
    }
    ctx.globalAlpha = 1;
  }
  if (overlay.residuals && measured) drawResiduals(ctx, measured, pixelToScreen);
  if (near) drawApertures(ctx, circled, measured, pixelToScreen, screenPerPixel);
  const mark = (row: number, role: "target" | "comparison" | "check", label: string) => {
    const i = at.get(row);
    if (i === undefined) return;
    const p = place(i);
    // Large enough to stand clear of the aperture.
    const size = Math.max(ROLE_PX, (measured?.radius_px ?? 0) * screenPerPixel * 1.3 + 3);
    drawRole(ctx, role, p.x, p.y, size, label);
  };
  if (cast) {
    cast.comparison.forEach((row, n) => mark(row, "comparison", String(n + 1)));
    for (const row of cast.checks) mark(row, "check", checkLabel(cast, row));
    mark(cast.target, "target", "T");
  }
  const chosen = overlay.star ?? overlay.hovered;
  const i = chosen === null ? undefined : at.get(chosen);
  if (i !== undefined) {
    const p = place(i);
    const clear = Math.max(18, (measured?.radius_px ?? 0) * screenPerPixel * 1.9);
    ctx.strokeStyle = colour("--plate-ink");
    ctx.lineWidth = 1;
    ctx.beginPath();
    for (const [dx, dy] of [
      [1, 0],
      [-1, 0],
      [0, 1],
      [0, -1],
    ] as const) {
      ctx.moveTo(p.x + dx * clear, p.y + dy * clear);
      ctx.lineTo(p.x + dx * (clear + 7), p.y + dy * (clear + 7));
    }
    ctx.stroke();
  }
}

function drawResiduals(
  ctx: CanvasRenderingContext2D,
  measured: MeasuredStars,
  pixelToScreen: Affine,
): void {
  ctx.strokeStyle = colour("--plate-beam");
  ctx.lineWidth = 1.2;
  measured.row.forEach((_, i) => {
    if ((measured.snr[i] ?? 0) < 40) return;
    const [px, py] = [measured.predicted_x_px[i]!, measured.predicted_y_px[i]!];
    const from = apply(pixelToScreen, { x: px, y: py });
    const tip = apply(pixelToScreen, {
      x: px + (measured.x_px[i]! - px) * ARROW_TIMES,
      y: py + (measured.y_px[i]! - py) * ARROW_TIMES,
    });
    const angle = Math.atan2(tip.y - from.y, tip.x - from.x);
    ctx.beginPath();
    ctx.moveTo(from.x, from.y);
    ctx.lineTo(tip.x, tip.y);
    for (const side of [-0.5, 0.5]) {
      ctx.moveTo(tip.x, tip.y);
      ctx.lineTo(tip.x - 5 * Math.cos(angle + side), tip.y - 5 * Math.sin(angle + side));
    }
    ctx.stroke();
  });
}

/** Stars whose aperture and ring are drawn: those with a part, and the one that is looked at. */
export function withAperture({
  cast,
  star,
  hovered,
}: Pick<Overlay, "cast" | "star" | "hovered">): Set<number> {
  const rows = [star, hovered, cast?.target, ...(cast?.checks ?? []), ...(cast?.comparison ?? [])];
  return new Set(rows.filter((row) => row != null));
}

function drawApertures(
  ctx: CanvasRenderingContext2D,
  rows: ReadonlySet<number>,
  measured: MeasuredStars,
  pixelToScreen: Affine,
  screenPerPixel: number,
): void {
  measured.row.forEach((row, i) => {
    if (!rows.has(row)) return;
    const p = apply(pixelToScreen, { x: measured.x_px[i]!, y: measured.y_px[i]! });
    // Dark beneath amber: it has to be seen on a white star and on a black sky.
    for (const [tone, width] of [["--plate", 3], ["--plate-beam", 1]] as const) {
      ctx.lineWidth = width;
      ctx.strokeStyle = colour(tone);
      ctx.beginPath();
      ctx.arc(p.x, p.y, measured.radius_px * screenPerPixel, 0, 7);
      ctx.stroke();
    } // prettier-ignore
    ctx.strokeStyle = colour("--plate-quiet");
    ctx.setLineDash([4, 4]);
    for (const r of measured.annulus_px) {
      ctx.beginPath();
      ctx.arc(p.x, p.y, r * screenPerPixel, 0, 7);
      ctx.stroke();
    }
    ctx.setLineDash([]);
  });
}

/** The star of the catalogue nearest to a place on the screen, within some pixels. */
export function starAt(
  catalogue: Catalogue | undefined,
  toScreen: Affine,
  x: number,
  y: number,
  within: number,
): number | null {
  let best: number | null = null;
  let distance = within;
  catalogue?.row.forEach((row, i) => {
    const p = apply(toScreen, { x: catalogue.east_arcsec[i]!, y: catalogue.north_arcsec[i]! });
    const away = Math.hypot(p.x - x, p.y - y);
    if (away < distance) {
      distance = away;
      best = row;
    }
  });
  return best;
}
