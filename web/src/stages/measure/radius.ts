export type RadiusKind = "auto" | "fixed" | "follows";

/** What a radius starts from where nothing was said, in pixels and in star widths. */
const USUAL = { auto: 0, fixed: 5, follows: 1.6 };

/** What a radius in a plan's words means: "auto", pixels, or "1.6 fwhm". */
export function radiusOf(text: string): { kind: RadiusKind; value: number } {
  const widths = /^\s*([\d.]+)\s*fwhm\s*$/.exec(text);
  if (widths) return { kind: "follows", value: Number(widths[1]) };
  const pixels = Number(text);
  return text.trim() && Number.isFinite(pixels)
    ? { kind: "fixed", value: pixels }
    : { kind: "auto", value: 0 };
}

export function radiusText(kind: RadiusKind, value: number | null): string {
  if (kind === "auto") return "auto";
  const number = value ?? USUAL[kind];
  return kind === "fixed" ? String(number) : `${number} fwhm`;
}
