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
          <Item key={remark.id} remark={remark} open={fresh.length === 1 && !remark.seen} />
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

/** What it says in one go; what it may cost and what to do, one click deeper. */
function Item({ remark, open }: { remark: Remark; open: boolean }) {
  return (
    <li
      className={`mb-1.5 border-l-2 pl-2 last:mb-0 ${remark.seen ? "border-line text-quiet" : "border-beam"}`}
    >
      <details open={open}>
        <summary className="cursor-pointer list-none">
          {remark.about && (
            <span className="block text-small text-quiet">
              {remark.about.split(", ").slice(0, 2).join(", ")}
            </span>
          )}
          <span className="line-clamp-2 text-base break-words in-open:line-clamp-none">
            {sentence(remark.words)}
          </span>
        </summary>
        <dl className="mt-0.5 text-small text-quiet">
          {(
            [
              ["about", remark.about.includes(", ") ? remark.about : ""],
              ["costs", remark.matters],
              ["to do", remark.remedy],
            ] as const
          )
            .filter(([, words]) => words)
            .map(([name, words]) => (
              <div key={name} className="flex gap-2">
                <dt className="w-9 shrink-0">{name}</dt>
                <dd className="min-w-0 break-words">{words}</dd>
              </div>
            ))}
        </dl>
        <button
          className="text-small text-beam hover:underline"
          onClick={() => void markSeen([remark.id], !remark.seen)}
        >
          {remark.seen ? "look at it again" : "seen"}
        </button>
      </details>
    </li>
  );
}

function sentence(words: string): string {
  return words.charAt(0).toUpperCase() + words.slice(1) + (words.endsWith(".") ? "" : ".");
}
