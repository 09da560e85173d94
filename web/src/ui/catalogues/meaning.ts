/** What a column can mean, in the order in which it is offered. */
const WORDS: Record<string, string> = {
  name: "name",
  ra: "right ascension",
  dec: "declination",
  pm_ra: "motion in right ascension",
  pm_dec: "motion in declination",
  parallax: "parallax",
  epoch: "epoch of the position",
  variable: "whether it varies",
  kind: "kind of variable",
  period: "period",
};
const UNCERTAINTY = "_uncertainty";

/** Meanings as they are kept: column by meaning or band. */
export type Meaning = Record<string, string>;

/** What a meaning is called: of a band "magnitude V", of its uncertainty "uncertainty of V". */
export function wordsOf(meaning: string): string {
  if (WORDS[meaning]) return WORDS[meaning];
  if (meaning.endsWith(UNCERTAINTY))
    return `uncertainty of ${meaning.slice(0, -UNCERTAINTY.length)}`;
  return `magnitude ${meaning}`;
}

/** What a column means, "" for nothing. */
export function meaningOf(column: string, meaning: Meaning): string {
  return Object.keys(meaning).find((key) => meaning[key] === column) ?? "";
}

/** All meanings that can be chosen, those of the table's bands first. */
export function choices(meanings: string[], bands: string[], meaning: Meaning): string[] {
  const used = Object.keys(meaning).filter((key) => !meanings.includes(key));
  const own = used.filter((key) => !key.endsWith(UNCERTAINTY));
  const all = [...new Set([...own, ...bands])];
  return [...meanings, ...all.flatMap((band) => [band, band + UNCERTAINTY])];
}

/**
 * What is said once a column means something else: a meaning goes with one column, and one that
 * was proposed for it and is wanted no more is said to be none.
 */
export function withMeaning(said: Meaning, now: Meaning, column: string, chosen: string): Meaning {
  const before = meaningOf(column, now);
  const next = { ...said };
  if (before && before !== chosen) next[before] = "";
  if (chosen) next[chosen] = column;
  return next;
}

/** Values under a heading: "359.98, 0.01, …". */
export function firstValues(values: string[]): string {
  return values.length ? `${values.join(", ")}, …` : "";
}
