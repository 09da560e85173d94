import { useState } from "react";
import { correctFiles } from "../../api/actions";
import { usePreview, useSaid } from "../../api/queries";
import type { FileRow } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";
import { plural, shortName } from "../../ui/words";
import { WORDS, type Word } from "./fields";
import { Becomes } from "./Becomes";

/** What the header said and what the observer says, side by side; kept beside the file. */
export function CorrectionForm({ files }: { files: FileRow[] }) {
  const campaign = useApp((s) => s.campaign);
  const [values, setValues] = useState<Record<string, string>>({});
  const only = files.length === 1 ? files[0]! : null;
  const ids = files.map((f) => f.id);
  const preview = usePreview(campaign, ids, values);
  const { data: headers } = useSaid(campaign, ids);
  return (
    <Section
      title={only ? shortName(only.name) : plural(files.length, "file")}
      aside={only?.part === "left out" ? "left out" : only?.part}
    >
      {only?.part_reason && <p className="mb-2 text-beam">{only.part_reason}</p>}
      {WORDS.map(({ title, words }) => (
        <details
          key={title}
          open={!title || title === "Time" || words.some((w) => common(files, w.key))}
        >
          <summary
            className={title ? "mb-1 mt-1.5 cursor-pointer border-t border-line pt-1" : "hidden"}
          >
            {title}
          </summary>
          {words.map((word) => (
            <WordField
              key={word.key}
              word={word}
              said={word.said === "" ? "" : (headers?.said[word.said ?? word.key] ?? "")}
              value={values[word.key] ?? common(files, word.key)}
              onChange={(value) => setValues({ ...values, [word.key]: value })}
            />
          ))}
        </details>
      ))}
      {Object.keys(values).length > 0 && <Becomes preview={preview} of={files.length} />}
      <div className="mt-2 flex gap-2">
        <Button
          main
          disabled={!Object.keys(values).length || preview.isError}
          onClick={() => {
            void correctFiles(ids, values);
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

/** The word that all files have in common. */
function common(files: FileRow[], key: string): string {
  const values = new Set(files.map((f) => f.correction[key] ?? ""));
  return values.size === 1 ? [...values][0]! : "";
}

function WordField(props: {
  word: Word;
  said: string;
  value: string;
  onChange: (value: string) => void;
}) {
  const { word, value } = props;
  const header = word.said === "" ? "as it is" : "as the header says";
  return (
    <label className="mb-1.5 block">
      <span className="mb-0.5 flex gap-2">
        <span className="shrink-0 text-quiet">{word.words}</span>
        <span className="num ml-auto truncate" title={props.said && `header: ${props.said}`}>
          {props.said}
        </span>
      </span>
      {word.options ? (
        <select
          aria-label={word.words}
          className="field"
          value={value}
          onChange={(event) => props.onChange(event.target.value)}
        >
          <option value="">{header}</option>
          {word.options.map(([key, words]) => (
            <option key={key} value={key}>
              {words}
            </option>
          ))}
        </select>
      ) : (
        <input
          aria-label={word.words}
          className="field num"
          placeholder={`${header}, or ${word.hint}`}
          value={value}
          onChange={(event) => props.onChange(event.target.value)}
        />
      )}
    </label>
  );
}
