/** Positions on the sky as people write them. */

const SPACE = "[\\s:]+";
const HOURS = new RegExp(
  `^(\\d{1,2})\\s*(?:h|${SPACE})\\s*(\\d{1,2}(?:\\.\\d+)?)\\s*(?:m|'|${SPACE})?\\s*(\\d{1,2}(?:\\.\\d*)?)?\\s*(?:s|")?$`,
);
const DEGREES = new RegExp(
  `^([+-]?)(\\d{1,2})\\s*(?:°|d|${SPACE})\\s*(\\d{1,2}(?:\\.\\d+)?)\\s*(?:'|m|${SPACE})?\\s*(\\d{1,2}(?:\\.\\d*)?)?\\s*(?:"|s)?$`,
);
const PLAIN = /^[+-]?\d+(?:\.\d+)?\s*(?:°|d|deg)?$/;

/** Right ascension and declination in degrees; null where the text is no position. */
export function positionOf(text: string): { ra: number; dec: number } | null {
  const clean = text
    .trim()
    .replace(/[−–]/g, "-")
    .replace(/[′’]/g, "'")
    .replace(/[″”]/g, '"')
    .replace(/^(?:ra|α)\s*=?\s*/i, "")
    .replace(/,?\s*(?:dec|δ)\s*=?\s*/i, ", ")
    .toLowerCase();
  for (const [first, second] of halves(clean)) {
    const ra = rightAscensionOf(first);
    const dec = declinationOf(second);
    if (ra !== null && dec !== null && ra >= 0 && ra < 360 && Math.abs(dec) <= 90)
      return { ra, dec };
  }
  return null;
}

/** Every way in which a text may be cut in two: at a comma, before a sign, in the middle. */
function halves(text: string): [string, string][] {
  const comma = text.split(/\s*[,;]\s*/).filter(Boolean);
  if (comma.length === 2) return [[comma[0]!, comma[1]!]];
  const signed = /^(.+?)\s*([+-].+)$/.exec(text);
  if (signed) return [[signed[1]!.trim(), signed[2]!]];
  const words = text.split(/\s+/);
  return words
    .slice(1)
    .map((_, i) => [words.slice(0, i + 1).join(" "), words.slice(i + 1).join(" ")]);
}

function rightAscensionOf(text: string): number | null {
  if (PLAIN.test(text)) return parseFloat(text);
  const found = HOURS.exec(text);
  if (!found) return null;
  const [h, m, s] = [found[1], found[2], found[3] ?? "0"].map(Number) as [number, number, number];
  return h < 24 && m < 60 && s < 60 ? 15 * (h + m / 60 + s / 3600) : null;
}

function declinationOf(text: string): number | null {
  const plain = text.replace(/\s+/g, " ");
  if (PLAIN.test(plain)) return parseFloat(plain);
  const found = DEGREES.exec(plain);
  if (!found) return null;
  const [d, m, s] = [found[2], found[3], found[4] ?? "0"].map(Number) as [number, number, number];
  return m < 60 && s < 60 ? (found[1] === "-" ? -1 : 1) * (d + m / 60 + s / 3600) : null;
}
