import type { Defects } from "../../api/types";

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
