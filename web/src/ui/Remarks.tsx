import { markSeen } from "../api/actions";
import type { Remark } from "../api/types";
import { Button } from "./Button";
import { Section } from "./parts";

/**
 * What the program assumed, doubts or could not do at this stage: what it may cost, what can be
 * done about it. What was seen is quiet, and stays.
 */
export function Remarks({ remarks }: { remarks: readonly Remark[] }) {
  if (!remarks.length) return null;
  const fresh = remarks.filter((r) => !r.seen);
  return (
    <Section
      title="Remarks"
      aside={fresh.length < remarks.length ? `${fresh.length} of ${remarks.length} new` : ""}
    >
      <ul data-testid="remarks">
        {remarks.map((remark) => (
          <Item key={remark.id} remark={remark} />
        ))}
      </ul>
      {fresh.length > 1 && (
        <Button className="mt-1" onClick={() => void markSeen(fresh.map((r) => r.id))}>
          All seen
        </Button>
      )}
    </Section>
  );
}

function Item({ remark }: { remark: Remark }) {
  return (
    <li
      className={`mb-2 border-l-2 pl-2 last:mb-0 ${remark.seen ? "border-line text-quiet" : "border-beam"}`}
    >
      {remark.about && <span className="block text-small text-quiet">{remark.about}</span>}
      <span className="block break-words">{sentence(remark.words)}</span>
      {!remark.seen && remark.matters && (
        <span className="block text-small text-quiet">Costs: {remark.matters}.</span>
      )}
      {!remark.seen && remark.remedy && (
        <span className="block text-small text-quiet">To do: {remark.remedy}.</span>
      )}
      <button
        className="text-small text-beam hover:underline"
        onClick={() => void markSeen([remark.id], !remark.seen)}
      >
        {remark.seen ? "look at it again" : "seen"}
      </button>
    </li>
  );
}

function sentence(words: string): string {
  return words.charAt(0).toUpperCase() + words.slice(1) + (words.endsWith(".") ? "" : ".");
}
