import type { Look } from "../state";

/** Brightness that is shown black and white, in ADU. */
export interface Range {
  low: number;
  high: number;
}

const SOFTNESS = 9;
const WORDS = 65536;

/** How bright a value appears, 0 to 1: faint light is lifted, stars keep their cores. */
export function shade(value: number, { low, high }: Range): number {
  const share = (value - low) / (high - low);
  if (!(share > 0)) return 0;
  return share >= 1 ? 1 : Math.asinh(share * SOFTNESS) / Math.asinh(SOFTNESS);
}

/**
 * The colour of every 16-bit word as RGBA in the order of the machine's bytes. A word w stands for
 * offset + (w − 1) · scale; the word 0 has no value.
 */
export function colourTable(
  offset: number,
  scale: number,
  range: Range,
  look: Look,
  table: Uint32Array = new Uint32Array(WORDS),
): Uint32Array {
  const first = Math.min(Math.max(Math.ceil((range.low - offset) / scale + 1), 1), WORDS);
  const last = Math.min(Math.max(Math.floor((range.high - offset) / scale + 1), first), WORDS);
  const black = pack(0, look);
  table.fill(black, 0, first);
  for (let w = first; w < last; w++) {
    table[w] = pack(Math.round(255 * shade(offset + (w - 1) * scale, range)), look);
  }
  table.fill(pack(255, look), last);
  table[0] = look === "red" ? pack(0, look) : 0xff302018;
  return table;
}

function pack(level: number, look: Look): number {
  if (look === "red") return (0xff000000 | Math.round(level * 0.82)) >>> 0;
  return (0xff000000 | (level << 16) | (level << 8) | level) >>> 0;
}

export function paint(words: Uint16Array, table: Uint32Array, pixels: Uint32Array): void {
  for (let i = 0; i < words.length; i++) pixels[i] = table[words[i]!]!;
}
