/** The grid of positions over the plate, the directions of north and east, and a bar of length. */
import { colour, declination, rightAscension } from "../ui/words";
import { planeOf, skyOf } from "./sky";
import { apply, invert, scaleOf, type Affine } from "./view";

/** Where the plane touches the sky, in degrees. */
export interface Touch {
  ra: number;
  dec: number;
}

interface Size {
  width: number;
  height: number;
}

const STEPS_ARCSEC = [1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200, 18000];
const STEPS_TIME_S = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 3600];
const GRID_PX = 150;
const BAR_PX = 110;
const SAMPLES = 72;
const COMPASS = { right: 46, top: 84, reach: 24 };
const BAR = { left: 14, bottom: 64 };
const LABEL = { width: 84, height: 14, gap: 4 };
const STRETCH = { width: 198, height: 86 };

/** The first of some steps that is at least so large. */
export const stepFor = (steps: readonly number[], least: number): number =>
  steps.find((step) => step >= least) ?? steps.at(-1)!;

/** A length in words: 30″, 5′, 2°. */
export function lengthWords(arcsec: number): string {
  if (arcsec >= 3600) return `${arcsec / 3600}°`;
  return arcsec >= 60 ? `${arcsec / 60}′` : `${arcsec}″`;
}

export function drawSkyFrame(
  ctx: CanvasRenderingContext2D,
  toScreen: Affine,
  size: Size,
  touch: Touch,
): void {
  ctx.save();
  drawGrid(ctx, toScreen, size, touch);
  drawCompass(ctx, toScreen, size);
  drawBar(ctx, toScreen, size);
  ctx.restore();
}

function drawGrid(ctx: CanvasRenderingContext2D, toScreen: Affine, size: Size, touch: Touch): void {
  const back = invert(toScreen);
  const corners = [
    [0, 0],
    [size.width, 0],
    [0, size.height],
    [size.width, size.height],
  ].map(([x, y]) => {
    const p = apply(back, { x: x!, y: y! });
    return skyOf(p.x, p.y, touch.ra, touch.dec);
  });
  const arcsecPerPx = 1 / scaleOf(toScreen);
  const decStep = stepFor(STEPS_ARCSEC, GRID_PX * arcsecPerPx) / 3600;
  const flat = Math.max(Math.cos((touch.dec * Math.PI) / 180), 0.02);
  const raStep = (stepFor(STEPS_TIME_S, (GRID_PX * arcsecPerPx) / 15 / flat) * 15) / 3600;
  const aways = corners.map((c) => ((c.ra - touch.ra + 540) % 360) - 180);
  const [ra0, ra1] = [touch.ra + Math.min(...aways), touch.ra + Math.max(...aways)];
  const decs = corners.map((c) => c.dec);
  const [dec0, dec1] = [Math.min(...decs), Math.max(...decs)];
  if (ra1 - ra0 > 180) return; // about a pole the lines would run together
  ctx.strokeStyle = colour("--plate-quiet");
  ctx.fillStyle = colour("--plate-quiet");
  ctx.lineWidth = 1;
  ctx.font = "11px 'Atkinson Hyperlegible Mono'";
  const place = (ra: number, dec: number) => {
    const at = planeOf(ra, dec, touch.ra, touch.dec);
    return at && apply(toScreen, { x: at.east, y: at.north });
  };
  for (let dec = Math.ceil(dec0 / decStep) * decStep; dec <= dec1; dec += decStep) {
    const line = Array.from({ length: SAMPLES + 1 }, (_, k) =>
      place(ra0 + ((ra1 - ra0) * k) / SAMPLES, dec),
    );
    trace(ctx, line, size, declination(dec).replace(/\.\d+$/, ""));
  }
  for (let ra = Math.ceil(ra0 / raStep) * raStep; ra <= ra1; ra += raStep) {
    const line = Array.from({ length: SAMPLES + 1 }, (_, k) =>
      place(ra, dec0 + ((dec1 - dec0) * k) / SAMPLES),
    );
    trace(ctx, line, size, rightAscension((ra + 360) % 360).replace(/0$/, ""));
  }
}

/** What stands over the plate in its corners, as [left, top, right, bottom]. */
function taken({ width, height }: Size): [number, number, number, number][] {
  const [x, y, reach] = [width - COMPASS.right, COMPASS.top, 1.7 * COMPASS.reach];
  return [
    [x - reach, y - reach, x + reach, y + reach],
    [BAR.left, height - BAR.bottom - 22, BAR.left + BAR_PX, height - BAR.bottom + 4],
    [width - STRETCH.width, height - STRETCH.height, width, height],
  ];
}

/** Whether a label beside a point is in the picture and under nothing. */
export function isFree(p: { x: number; y: number }, size: Size): boolean {
  const { width, height, gap } = LABEL;
  if (p.x < 8 || p.x > size.width - width - 12 || p.y < 44 || p.y > size.height - 44) return false;
  const [left, bottom] = [p.x + gap, p.y - gap];
  return !taken(size).some(
    ([l, t, r, b]) => left < r && left + width > l && bottom > t && bottom - height < b,
  );
}

/** A line of the grid, with its value where it first comes into the picture. */
function trace(
  ctx: CanvasRenderingContext2D,
  line: ({ x: number; y: number } | null)[],
  size: Size,
  label: string,
): void {
  ctx.globalAlpha = 0.35;
  ctx.beginPath();
  line.forEach((p, i) => p && (i ? ctx.lineTo(p.x, p.y) : ctx.moveTo(p.x, p.y)));
  ctx.stroke();
  const inside = line.find((p) => p && isFree(p, size));
  ctx.globalAlpha = 0.9;
  if (inside) ctx.fillText(label, inside.x + LABEL.gap, inside.y - LABEL.gap);
}

function drawCompass(ctx: CanvasRenderingContext2D, toScreen: Affine, size: Size): void {
  const centre = { x: size.width - COMPASS.right, y: COMPASS.top };
  const k = COMPASS.reach / scaleOf(toScreen);
  const from = apply(toScreen, { x: 0, y: 0 });
  ctx.globalAlpha = 1;
  ctx.strokeStyle = ctx.fillStyle = colour("--plate-ink");
  ctx.font = "600 11px 'Atkinson Hyperlegible Next'";
  ctx.textAlign = "center";
  ctx.textBaseline = "middle";
  for (const [name, east, north] of [
    ["N", 0, k],
    ["E", k, 0],
  ] as const) {
    const tip = apply(toScreen, { x: east, y: north });
    const [dx, dy] = [tip.x - from.x, tip.y - from.y];
    ctx.beginPath();
    ctx.moveTo(centre.x, centre.y);
    ctx.lineTo(centre.x + dx, centre.y + dy);
    ctx.stroke();
    ctx.fillText(name, centre.x + dx * 1.4, centre.y + dy * 1.4);
  }
}

function drawBar(ctx: CanvasRenderingContext2D, toScreen: Affine, size: Size): void {
  const perArcsec = scaleOf(toScreen);
  const fitting = STEPS_ARCSEC.filter((step) => step * perArcsec <= BAR_PX);
  const length = fitting.at(-1) ?? STEPS_ARCSEC[0]!;
  const px = length * perArcsec;
  const [left, y] = [BAR.left, size.height - BAR.bottom];
  ctx.strokeStyle = ctx.fillStyle = colour("--plate-ink");
  ctx.lineWidth = 1.5;
  ctx.beginPath();
  ctx.moveTo(left, y - 4);
  ctx.lineTo(left, y);
  ctx.lineTo(left + px, y);
  ctx.lineTo(left + px, y - 4);
  ctx.stroke();
  ctx.font = "11px 'Atkinson Hyperlegible Mono'";
  ctx.textAlign = "left";
  ctx.textBaseline = "bottom";
  ctx.fillText(lengthWords(length), left + 4, y - 4);
}
