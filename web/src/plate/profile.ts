/** What the loupe says of a star: where it is, how wide, how bright against its sky. */

export interface Look {
  x: number;
  y: number;
  peak: number;
  sky: number;
  fwhm: number | null;
  /** Mean value by whole pixels of distance from the centre. */
  rings: number[];
}

const REACH = 10;
const CORE = 2.5;
const SURE = 5;

export function lookAt(
  value: (x: number, y: number) => number | null,
  x0: number,
  y0: number,
): Look | null {
  const cells: { x: number; y: number; v: number }[] = [];
  for (let y = Math.round(y0) - REACH; y <= Math.round(y0) + REACH; y++)
    for (let x = Math.round(x0) - REACH; x <= Math.round(x0) + REACH; x++) {
      const v = value(x, y);
      if (v !== null) cells.push({ x, y, v });
    }
  if (cells.length < REACH * REACH) return null;
  const sorted = cells.map((c) => c.v).sort((a, b) => a - b);
  const sky = sorted[Math.floor(sorted.length * 0.45)]!;
  let [x, y] = [x0, y0];
  for (let turn = 0; turn < 5; turn++) {
    let [sum, sx, sy] = [0, 0, 0];
    for (const c of cells) {
      if (Math.hypot(c.x - x, c.y - y) > 4.5) continue;
      const light = Math.max(c.v - sky, 0);
      sum += light;
      sx += light * c.x;
      sy += light * c.y;
    }
    if (!(sum > 0)) return null;
    [x, y] = [sx / sum, sy / sum];
  }
  if (Math.hypot(x - x0, y - y0) > 5) [x, y] = [x0, y0];
  // Noise alone has a brightest pixel, too: what stands out by no more is no star.
  const noise = sky - sorted[Math.floor(sorted.length * 0.12)]!;
  const near = cells.filter((c) => Math.hypot(c.x - x, c.y - y) < CORE);
  const light = near.reduce((sum, c) => sum + c.v - sky, 0);
  if (light < SURE * noise * Math.sqrt(near.length)) return null;
  const rings: number[] = [];
  for (let r = 0; r < REACH; r++) {
    const inside = cells.filter((c) => Math.abs(Math.hypot(c.x - x, c.y - y) - r) < 0.5);
    rings.push(inside.length ? inside.reduce((s, c) => s + c.v, 0) / inside.length : sky);
  }
  const peak = Math.max(...cells.filter((c) => Math.hypot(c.x - x, c.y - y) < 2).map((c) => c.v));
  return { x, y, peak, sky, fwhm: width(rings, sky), rings };
}

function width(rings: number[], sky: number): number | null {
  const half = (rings[0]! - sky) / 2;
  if (!(half > 0)) return null;
  for (let r = 1; r < rings.length; r++) {
    const [before, after] = [rings[r - 1]! - sky, rings[r]! - sky];
    if (after <= half) return 2 * (r - 1 + (before - half) / Math.max(before - after, 1e-9));
  }
  return null;
}
