import { useState } from "react";
import { correctFiles } from "../../api/actions";
import type { FileRow } from "../../api/types";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";
import { plural, shortName } from "../../ui/words";

const KINDS = ["exposure", "bias", "dark", "flat", "flat dark"];
const FIELDS = [
  { key: "kind", words: "kind", said: "kind", hint: "" },
  { key: "filter", words: "filter", said: "filter", hint: "V" },
  { key: "exposure_s", words: "exposure", said: "exposure_s", hint: "seconds" },
  { key: "time_utc", words: "start, UTC", said: "time_utc", hint: "2026-10-12 21:04:30" },
] as const;

/** What the header said and what the observer says, side by side; kept beside the file. */
export function CorrectionForm({ files }: { files: FileRow[] }) {
  const common = (key: string) => {
    const values = new Set(files.map((f) => f.correction[key] ?? ""));
    return values.size === 1 ? [...values][0]! : "";
  };
  const [values, setValues] = useState<Record<string, string>>({});
  const said = (key: string) => {
    const words = new Set(files.map((f) => f.said[key] ?? "nothing"));
    return words.size === 1 ? [...words][0] : "several";
  };
  const only = files.length === 1 ? files[0]! : null;
  return (
    <Section
      title={only ? shortName(only.name) : plural(files.length, "file")}
      aside={only?.part === "left out" ? "left out" : only?.part}
    >
      {only?.part_reason && <p className="mb-2 text-beam">{only.part_reason}</p>}
      <table className="w-full">
        <thead>
          <tr className="text-left text-small text-quiet">
            <th className="font-normal" />
            <th className="font-normal">header says</th>
            <th className="font-normal">you say</th>
          </tr>
        </thead>
        <tbody>
          {FIELDS.map(({ key, words, said: fact, hint }) => (
            <tr key={key}>
              <td className="pr-2 text-quiet">{words}</td>
              <td className="num max-w-24 truncate pr-2" title={said(fact)}>
                {said(fact)}
              </td>
              <td className="w-28 py-0.5">
                {key === "kind" ? (
                  <select
                    aria-label="kind"
                    className="field"
                    value={values[key] ?? common(key)}
                    onChange={(event) => setValues({ ...values, [key]: event.target.value })}
                  >
                    <option value="">as header</option>
                    {KINDS.map((kind) => (
                      <option key={kind}>{kind}</option>
                    ))}
                  </select>
                ) : (
                  <input
                    aria-label={words}
                    className="field num"
                    placeholder={hint}
                    value={values[key] ?? common(key)}
                    onChange={(event) => setValues({ ...values, [key]: event.target.value })}
                  />
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="mt-2 flex gap-2">
        <Button
          main
          disabled={!Object.keys(values).length}
          onClick={() => {
            void correctFiles(
              files.map((f) => f.id),
              values,
            );
            setValues({});
          }}
        >
          Keep for {plural(files.length, "file")}
        </Button>
      </div>
      <p className="mt-1.5 text-small text-quiet">
        Kept beside the file, never written into it. Undo takes it back.
      </p>
    </Section>
  );
}
