import { useLook } from "../../api/queries";
import type { LookIn } from "../../api/types";
import { choices, firstValues, meaningOf, withMeaning, wordsOf, type Meaning } from "./meaning";

interface Props {
  look: LookIn;
  said: Meaning;
  onSay: (said: Meaning) => void;
}

/** The columns of a table with their first values, and what each means: proposed, to be corrected. */
export function ColumnTable({ look, said, onSay }: Props) {
  const { data, error } = useLook({ ...look, columns: said });
  if (error) return <p className="text-trouble">{error.message}</p>;
  if (!data) return <p className="text-quiet">Reading its columns…</p>;
  const meaning = { ...data.meaning, ...said };
  const offered = choices(data.meanings, data.bands, meaning);
  return (
    <>
      <p className={data.problem ? "text-trouble" : "text-quiet"}>
        {data.problem || "What each column means was told by its name, unit and UCD."}
      </p>
      <div className="min-h-0 overflow-y-auto" tabIndex={0} aria-label="columns of the table">
        <table className="w-full border-collapse">
          <thead className="sticky top-0 bg-panel text-left text-small text-quiet">
            <tr>
              <th className="py-1 pr-3 font-normal">column</th>
              <th className="pr-3 font-normal">unit</th>
              <th className="pr-3 font-normal">first values</th>
              <th className="font-normal">means</th>
            </tr>
          </thead>
          <tbody>
            {data.columns.map((column) => (
              <tr key={column.name} className="border-t border-line">
                <td className="num py-0.5 pr-3" title={column.ucd || undefined}>
                  {column.name}
                </td>
                <td className="num pr-3 text-quiet">{column.unit}</td>
                <td className="num max-w-80 truncate pr-3 text-quiet">
                  {firstValues(column.values)}
                </td>
                <td>
                  <select
                    className="field"
                    aria-label={`what ${column.name} means`}
                    value={meaningOf(column.name, meaning)}
                    onChange={(event) =>
                      onSay(withMeaning(said, meaning, column.name, event.target.value))
                    }
                  >
                    <option value="">nothing</option>
                    {offered.map((key) => (
                      <option key={key} value={key}>
                        {wordsOf(key)}
                      </option>
                    ))}
                  </select>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
