import type { ReportPage } from "../../api/types";
import { useExposures } from "../../api/queries";
import { useApp } from "../../state";
import { fixed, shortName } from "../../ui/words";

/** Point by point, what recipients have otherwise than it is now. */
export function Changes({ changes }: { changes: ReportPage["changes"] }) {
  const id = useApp((s) => s.campaign);
  const set = useApp((s) => s.set);
  const { data } = useExposures(id);
  const of = new Map((data?.exposures ?? []).map((e) => [e.id, e]));
  return (
    <div className="min-h-0 flex-1 overflow-y-auto" data-testid="changes">
      <table className="num w-full border-collapse">
        <thead className="sticky top-0 bg-ground text-left text-small text-quiet">
          <tr>
            {["exposure", "JD (UTC)", "filter", "went out", "now", "difference", "why"].map(
              (word) => (
                <th key={word} className="border-b border-line px-3 py-1 font-sans font-normal">
                  {word}
                </th>
              ),
            )}
          </tr>
        </thead>
        <tbody>
          {changes.map((c) => (
            <tr
              key={`${c.file_id}${c.filter}`}
              className="cursor-pointer border-b border-line hover:bg-raised"
              onClick={() => set({ beam: c.file_id })}
            >
              <td className="px-3 py-1 font-sans">{shortName(of.get(c.file_id)?.name ?? "")}</td>
              <td className="px-3">{c.jd_utc.toFixed(5)}</td>
              <td className="px-3">{c.filter}</td>
              <td className="px-3">{fixed(c.before, 4)}</td>
              <td className="px-3">{c.now === null ? "–" : fixed(c.now, 4)}</td>
              <td className="px-3">
                {c.now === null ? "" : fixed(1000 * (c.now - c.before), 1, "mmag")}
              </td>
              <td className="px-3 font-sans text-quiet">{c.why}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
