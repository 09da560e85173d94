import type { Exposure } from "../../api/types";

/** Why an exposure is set aside, with one key each; they hold while the page asks. */
export const REASONS: readonly { key: string; word: string; rest: string }[] = [
  { key: "c", word: "cloud", rest: "loud" },
  { key: "t", word: "trail", rest: "rail" },
  { key: "f", word: "focus", rest: "ocus" },
  { key: "w", word: "wind", rest: "ind" },
  { key: "r", word: "framing", rest: "framing" },
];
export const OTHER_WORDS = "o";
/** Troubles whose words go on with the star that they are about. */
const OF_CAST = ["trail", "cosmic ray"];

/** What a proposal is about: its first words, up to the colon. */
export function troubleOf(words: string): string {
  const own = OF_CAST.find((trouble) => words.startsWith(trouble));
  if (own) return own;
  const head = words.split(":", 1)[0]!;
  return head === words ? head.split(" ").slice(0, 3).join(" ") : head;
}

/** What a proposal says beside that. */
export const detailOf = (words: string): string =>
  words.includes(": ") && !OF_CAST.some((trouble) => words.startsWith(trouble))
    ? words.slice(words.indexOf(": ") + 2)
    : words;

/** Exposures by what is proposed of them, the most frequent first. */
export function byTrouble(exposures: readonly Exposure[]): [string, Exposure[]][] {
  const groups = new Map<string, Exposure[]>();
  for (const e of exposures) {
    const trouble = troubleOf(e.proposal);
    groups.set(trouble, [...(groups.get(trouble) ?? []), e]);
  }
  return [...groups].sort((a, b) => b[1].length - a[1].length || a[0].localeCompare(b[0]));
}
