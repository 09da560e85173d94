import { useOver } from "../../api/queries";
import type { Master } from "../../api/types";
import { Fact } from "../../ui/parts";
import { fixed } from "../../ui/words";

/** What one flat over another shows: it should be noise, as much as photons make. */
export function Verdict({ master, other }: { master: Master; other: Master }) {
  const { data, error } = useOver(master.id, other.id);
  if (error) return <p className="mt-2 text-trouble">{error.message}</p>;
  if (!data) return <p className="mt-2 text-quiet">Dividing …</p>;
  const percent = (share: number | null | undefined, digits = 2) =>
    share == null ? "unknown" : fixed(100 * share, digits, "%");
  return (
    <div className="mt-2 border-l-2 border-line pl-2" aria-label="verdict on the flats">
      {data.words.length === 0 ? (
        <p>Alike: what is left of their ratio is noise.</p>
      ) : (
        <ul>
          {data.words.map((words) => (
            <li key={words} className="text-beam">
              {words}
            </li>
          ))}
        </ul>
      )}
      <Fact name="scatter of a pixel">{percent(data.scatter)}</Fact>
      <Fact name="photons allow">{percent(data.expected)}</Fact>
      <Fact name="gradient">
        {percent(data.slope)}
        {data.slope > 0.001 && ` towards ${fixed(data.slope_deg, 0, "°")}`}
      </Fact>
      <Fact name="corners over middle">{percent(data.radial)}</Fact>
      {data.words.length > 0 && (
        <Fact name="one for the other costs">up to {fixed(data.cost_mmag, 0, "mmag")}</Fact>
      )}
    </div>
  );
}
