import type { Hit } from "../../charts/marks";
import { tellMagnitude } from "../../charts/MarksChart";
import type { useAxis } from "../../rail/axis";
import { clockUtc, dayOf, shortName } from "../../ui/words";

/** A point in words: its magnitude, what is said of it, its exposure. */
export function tellHit(hit: Hit, axis: ReturnType<typeof useAxis>, name: string): string {
  const e = axis.exposures.find((one) => one.id === hit.id);
  const words = hit.marks.words[hit.index];
  const first = `${tellMagnitude(hit, name)}${words ? `  ${words}` : ""}`;
  return e
    ? `${first}\n${shortName(e.name)}  ${dayOf(e.mid_utc)} ${clockUtc(e.mid_utc)} UT`
    : first;
}
