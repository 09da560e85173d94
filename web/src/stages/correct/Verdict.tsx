import { useOver, useSingleOver } from "../../api/queries";
import type { FlatVerdict, Master } from "../../api/types";
import { Fact } from "../../ui/parts";
import { fixed } from "../../ui/words";

/** What one master flat over another shows. */
export function Verdict({ master, other }: { master: Master; other: Master }) {
  const { data, error } = useOver(master.id, other.id);
  return <Told verdict={data} error={error} />;
}

/** What a single flat over its master shows. */
export function SingleVerdict({ file, master }: { file: number; master: number }) {
  const { data, error } = useSingleOver(file, master);
  return <Told verdict={data} error={error} />;
}

/** The ratio of two flats should be noise, as much as photons make. */
function Told(props: { verdict: FlatVerdict | undefined; error: Error | null }) {
  const { verdict, error } = props;
  if (error) return <p className="mt-2 text-trouble">{error.message}</p>;
  if (!verdict) return <p className="mt-2 text-quiet">Dividing …</p>;
  const percent = (share: number | null | undefined, digits = 2) =>
    share == null ? "unknown" : fixed(100 * share, digits, "%");
  return (
    <div className="mt-2 border-l-2 border-line pl-2" aria-label="verdict on the flats">
      {verdict.words.length === 0 ? (
        <p>Alike: what is left of their ratio is noise.</p>
      ) : (
        <ul>
          {verdict.words.map((words) => (
            <li key={words} className="text-beam">
              {words}
            </li>
          ))}
        </ul>
      )}
      <Fact name="scatter of a pixel">{percent(verdict.scatter)}</Fact>
      <Fact name="photons allow">{percent(verdict.expected)}</Fact>
      <Fact name="gradient">
        {percent(verdict.slope)}
        {verdict.slope > 0.001 && ` towards ${fixed(verdict.slope_deg, 0, "°")}`}
      </Fact>
      <Fact name="corners over middle">{percent(verdict.radial)}</Fact>
      {verdict.words.length > 0 && (
        <Fact name="one for the other costs">up to {fixed(verdict.cost_mmag, 0, "mmag")}</Fact>
      )}
    </div>
  );
}
