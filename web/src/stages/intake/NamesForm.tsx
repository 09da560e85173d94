import { useState } from "react";
import { correctByNames } from "../../api/actions";
import { useNames } from "../../api/queries";
import type { FileRow } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Fact, Section } from "../../ui/parts";
import { plural } from "../../ui/words";
import { tally, type NameRead } from "./names";

/** Kind, filter, exposure time or start, read out of the chosen files' names by a pattern. */
export function NamesForm({ files }: { files: FileRow[] }) {
  const campaign = useApp((s) => s.campaign);
  const [pattern, setPattern] = useState("");
  const { data, error } = useNames(campaign, pattern);
  const chosen = new Set(files.map((f) => f.id));
  const read: NameRead[] = (pattern && data?.files.filter((f) => chosen.has(f.id))) || [];
  return (
    <Section title="Or read it from the names">
      <input
        aria-label="pattern of the file names"
        className="field num"
        placeholder="{kind}_{filter}_{seconds}s"
        value={pattern}
        onChange={(event) => setPattern(event.target.value)}
      />
      <p className="num mt-1 truncate text-small text-quiet" title={files[0]?.name}>
        {files[0]?.name.split("/").at(-1)}
      </p>
      {!pattern && (
        <p className="mt-1 text-small text-quiet">
          Write the name with {"{kind}"}, {"{filter}"}, {"{seconds}"}, {"{time}"}, {"{temperature}"}
          , {"{gain}"}, {"{offset}"} or {"{camera}"} where one stands, * for anything.
        </p>
      )}
      {error && pattern && <p className="mt-1 text-small text-beam">{error.message}</p>}
      {data && pattern && !error && (
        <>
          <dl className="mt-1.5">
            <Fact name="names that fit">
              {read.length} of {files.length}
            </Fact>
            {tally(read).map(({ name, values }) => (
              <Fact key={name} name={name}>
                {values}
              </Fact>
            ))}
          </dl>
          <Button
            main
            className="mt-2"
            disabled={!read.length}
            onClick={() => {
              void correctByNames(
                read.map((f) => f.id),
                pattern,
              );
              setPattern("");
            }}
          >
            Keep for {plural(read.length, "file")}
          </Button>
        </>
      )}
    </Section>
  );
}
