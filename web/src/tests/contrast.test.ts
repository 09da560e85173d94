import { readFileSync } from "node:fs";
import { describe, expect, it } from "vitest";

const CSS = readFileSync(new URL("../app.css", import.meta.url), "utf8");
const SURFACES = ["ground", "panel", "raised"];
const TEXT = ["ink", "quiet", "beam", "comparison", "check", "trouble"];
const FILTERS = ["u", "b", "v", "r", "i", "other"].map((name) => `filter-${name}`);

function tones(look: string): Record<string, string> {
  const rule = look === "night" ? ":root" : `[data-look="${look}"]`;
  const begin = CSS.indexOf(`${rule} {`);
  const body = CSS.slice(begin, CSS.indexOf("}", begin));
  return Object.fromEntries(
    [...body.matchAll(/--([\w-]+): (#[0-9a-f]{6})/g)].map((found) => [found[1]!, found[2]!]),
  );
}

/** Relative luminance and contrast of WCAG 2.2. */
function luminance(hex: string): number {
  const [r, g, b] = [1, 3, 5].map((at) => {
    const share = parseInt(hex.slice(at, at + 2), 16) / 255;
    return share <= 0.04045 ? share / 12.92 : ((share + 0.055) / 1.055) ** 2.4;
  }) as [number, number, number];
  return 0.2126 * r + 0.7152 * g + 0.0722 * b;
}

function contrast(one: string, other: string): number {
  const [low, high] = [luminance(one), luminance(other)].sort((a, b) => a - b) as [number, number];
  return (high + 0.05) / (low + 0.05);
}

describe.each(["night", "day", "red"])("the %s look", (look) => {
  const tone = tones(look);

  it.each(TEXT)("can be read in %s on every surface (AA)", (name) => {
    for (const surface of SURFACES)
      expect(contrast(tone[name]!, tone[surface]!), surface).toBeGreaterThanOrEqual(4.5);
  });

  it("can be read on its main button", () => {
    expect(contrast(tone.ground!, tone.beam!)).toBeGreaterThanOrEqual(4.5);
  });

  it("shows the parts of stars on the black plate", () => {
    const plate = { ...tones("night"), ...tone };
    for (const name of ["ink", "quiet", "beam", "comparison", "check"])
      expect(contrast(plate[`plate-${name}`]!, plate.plate!), name).toBeGreaterThanOrEqual(4.5);
  });

  it("shows marks of every filter on the grounds of charts", () => {
    for (const name of FILTERS)
      expect(contrast(tone[name]!, tone.ground!), name).toBeGreaterThanOrEqual(3);
  });
});
