import type { UseQueryResult } from "@tanstack/react-query";
import type { Preview } from "../../api/types";
import { shortName } from "../../ui/words";

const SHOWN = 6;

/** What the words that were typed would make of their files, before anything is kept. */
export function Becomes({ preview, of }: { preview: UseQueryResult<Preview>; of: number }) {
  if (preview.error) return <p className="mt-2 text-trouble">{preview.error.message}</p>;
  const data = preview.data;
  if (!data) return null;
  return (
    <div className="mt-2 border-l-2 border-beam pl-2" aria-label="what would change">
      <p>
        {data.count === 0
          ? "Nothing would change."
          : `${data.count} of ${of} would change${data.count > SHOWN ? ", the first of them" : ""}:`}
      </p>
      <ul>
        {data.files.slice(0, SHOWN).map((file) => (
          <li key={file.id} className="mt-1">
            <span className="num block truncate text-small text-quiet" title={file.name}>
              {shortName(file.name)}
            </span>
            {file.changes.map((words) => (
              <span key={words} className="num block text-small">
                {words}
              </span>
            ))}
          </li>
        ))}
      </ul>
    </div>
  );
}
