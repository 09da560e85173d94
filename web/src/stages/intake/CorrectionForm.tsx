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
  { key: "exposure_s", words: "exposure, s", said: "exposure_s", hint: "60" },
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
      <p className="text-right text-small text-quiet">the header says</p>
      {FIELDS.map(({ key, words, said: fact, hint }) => (
        <label key={key} className="mb-1.5 block">
          <span className="mb-0.5 flex gap-2">
            <span className="shrink-0 text-quiet">{words}</span>
            <span className="num ml-auto truncate" title={said(fact)}>
              {said(fact)}
            </span>
          </span>
          {key === "kind" ? (
            <select
              aria-label="kind"
              className="field"
              value={values[key] ?? common(key)}
              onChange={(event) => setValues({ ...values, [key]: event.target.value })}
            >
              <option value="">as the header says</option>
              {KINDS.map((kind) => (
                <option key={kind}>{kind}</option>
              ))}
            </select>
          ) : (
            <input
              aria-label={words}
              className="field num"
              placeholder={`as the header says, or ${hint}`}
              value={values[key] ?? common(key)}
              onChange={(event) => setValues({ ...values, [key]: event.target.value })}
            />
          )}
        </label>
      ))}
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
