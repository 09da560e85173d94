import type { Defects } from "../../api/types";
import type { Marking } from "../../state";

/** How many pixels depart by more than a threshold, of those that are listed farthest first. */
export function beyond(defects: Defects, threshold: number): number {
  let [low, high] = [0, defects.deviation.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (defects.deviation[middle]! > threshold) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** How many measured stars have a pixel in their aperture that would be repaired. */
export const touched = (defects: Defects, threshold: number): number =>
  defects.stars.filter((deviation) => deviation > threshold).length;

/** Where those stars are in the image. */
export function starsTouched(defects: Defects, threshold: number): { x: number; y: number }[] {
  return defects.stars.flatMap((deviation, i) =>
    deviation > threshold ? [{ x: defects.star_x_px[i]!, y: defects.star_y_px[i]! }] : [],
  );
}

/** What pointing from one pixel of an image to another marks: a whole column or row for a click,
 * the part of it for a drag, or the box between the two. In pixels of the image, from 0. */
export function pointedAt(
  how: Marking,
  from: { x: number; y: number },
  to: { x: number; y: number },
  dragged: boolean,
  image: { width: number; height: number },
): [number, number, number, number] {
  const clamp = (v: number, size: number) => Math.min(Math.max(Math.round(v), 0), size - 1);
  const [x0, x1] = [from.x, to.x].map((x) => clamp(x, image.width)).sort((a, b) => a - b);
  const [y0, y1] = [from.y, to.y].map((y) => clamp(y, image.height)).sort((a, b) => a - b);
  const [x, y] = [clamp(from.x, image.width), clamp(from.y, image.height)];
  if (how === "column") return dragged ? [x, y0!, 1, y1! - y0! + 1] : [x, 0, 1, image.height];
  if (how === "row") return dragged ? [x0!, y, x1! - x0! + 1, 1] : [0, y, image.width, 1];
  return [x0!, y0!, x1! - x0! + 1, y1! - y0! + 1];
}

/** A mark in pixels of an image as one in pixels of its file, counted from 1. */
export function inFile(mark: readonly number[], defects: Defects): number[] {
  const [x, y, width, height] = mark as [number, number, number, number];
  const { first, step } = defects;
  const long = (n: number) => (n - 1) * step + 1;
  return [first[0]! + step * x, first[1]! + step * y, long(width), long(height)];
}

/** A mark from what was typed: "512", "512, 100-400" (part of a column), "row 40", "10 20 5 5". */
export function markOf(text: string, width: number, height: number): number[] | null {
  const plain = text.trim().toLowerCase();
  const box = /^(\d+)[\s,]+(\d+)[\s,]+(\d+)[\s,]+(\d+)$/.exec(plain);
  if (box) return box.slice(1).map(Number);
  const line = /^(row\s+|column\s+)?(\d+)(?:[\s,:]+(\d+)\s*[-–]\s*(\d+))?$/.exec(plain);
  if (!line) return null;
  const row = line[1]?.startsWith("row") ?? false;
  const at = Number(line[2]);
  const first = line[3] ? Number(line[3]) : 1;
  const last = line[4] ? Number(line[4]) : row ? width : height;
  if (last < first || at < 1) return null;
  return row ? [first, at, last - first + 1, 1] : [at, first, 1, last - first + 1];
}

/** A mark in words. */
export function markWords([x, y, width, height]: number[]): string {
  if (width === 1) return `column ${x}, rows ${y}–${y! + height! - 1}`;
  if (height === 1) return `row ${y}, columns ${x}–${x! + width! - 1}`;
  return `${width} × ${height} pixels from ${x}, ${y}`;
}
