import type { Scale, ScaleTerm } from "../../api/types";

/** "B-V" with a proper minus. */
export const indexWords = (index: string) => (index ? index.replace("-", " − ") : "colour");

export const sourceWords = (source: string) =>
  ({ measured: "measured in two filters", typed: "as you gave it", catalogue: "of the catalogue" })[
    source
  ] ?? "";

export const signed = (value: number, digits: number) =>
  `${value < 0 ? "−" : ""}${Math.abs(value).toFixed(digits)}`;

export function termWords(term: ScaleTerm | null | undefined, lacks: string): string {
  if (!term) return `too little ${lacks}`;
  const sure = term.uncertainty ? ` ± ${term.uncertainty.toFixed(4)}` : "";
  return `${signed(term.value, 4)}${sure}${term.fitted ? "" : ", given"}`;
}

/** A number that was typed; null where the field was emptied, undefined where it is none. */
export function numberOrNull(text: string): number | null | undefined {
  const plain = text.trim().replace("−", "-").replace(",", ".");
  if (!plain) return null;
  const value = Number(plain);
  return Number.isFinite(value) ? value : undefined;
}

/** Each night's line over its own airmasses, from end to end. */
export function airLines(air: NonNullable<Scale["air"]>): [number, number][][] {
  return air.nights.map(({ group }) => {
    const own = air.airmass
      .map((a, i) => [a, air.fitted[i]] as const)
      .filter(
        (p, i): p is [number, number] => air.group[i] === group && p[0] != null && p[1] != null,
      )
      .sort((a, b) => a[0] - b[0]);
    return own.length ? [own[0]!, own.at(-1)!] : [];
  });
}

/** Ranges of the chart of offsets against colour, with the line's ends. */
export function chartOf(scale: Scale): {
  x: [number, number];
  y: [number, number];
  line: [number, number][] | null;
} {
  const colours = scale.stars.map((s) => s.colour);
  if (scale.target_colour != null) colours.push(scale.target_colour);
  const [low, high] = [Math.min(...colours), Math.max(...colours)];
  const x: [number, number] = [low - 0.05 * (high - low) - 0.02, high + 0.05 * (high - low) + 0.02];
  const offsets = scale.stars.filter((s) => s.used).map((s) => s.offset_mag);
  const slope = scale.transform?.value ?? scale.slope ?? null;
  const at = (c: number) => (scale.level ?? 0) + slope! * (c - (scale.centre ?? 0));
  const line = slope == null ? null : x.map((c): [number, number] => [c, at(c)]);
  const values = [...offsets, ...(line ?? []).map(([, v]) => v)];
  const [bottom, top] = [Math.min(...values), Math.max(...values)];
  const room = 0.12 * (top - bottom) + 0.005;
  return { x, y: [bottom - room, top + room], line };
}
