import { useState } from "react";
import { takeSequence } from "../../api/actions";
import type { Campaign } from "../../api/types";
import { Button } from "../../ui/Button";
import { ColumnTable } from "../../ui/catalogues/ColumnTable";
import type { Meaning } from "../../ui/catalogues/meaning";
import { Field, PathField } from "../../ui/Field";
import { Section } from "../../ui/parts";
import { Sheet } from "../../ui/Sheet";

/** Comparison stars of a society with its own names and magnitudes, and one's own to hand on. */
export function SequenceSection({ campaign }: { campaign: Campaign }) {
  const { sequence } = campaign;
  const [picked, setPicked] = useState("");
  const file = picked || (sequence?.file ?? "");
  return (
    <Section
      title="Sequence"
      aside={sequence && `${sequence.stars - sequence.missing.length} of ${sequence.stars} here`}
    >
      {!sequence && (
        <p className="mb-1 text-small text-quiet">
          A society’s comparison stars from a table: their names and magnitudes then stand in for
          the catalogue’s, and the program takes them first.
        </p>
      )}
      <PathField
        label="file"
        what="the sequence"
        files="catalogue"
        none="no file"
        value={sequence?.file ?? ""}
        clear
        onSave={(path) => (path ? setPicked(path) : void takeSequence(campaign.id, { file: "" }))}
      />
      {sequence && (
        <>
          <Field
            label="chart"
            value={sequence.chart}
            hint="its number"
            onSave={(chart) => void takeSequence(campaign.id, { ...sequence, chart })}
          />
          {sequence.missing.length > 0 && (
            <p className="text-small text-beam">
              Not in the catalogue: {sequence.missing.slice(0, 6).join(", ")}
              {sequence.missing.length > 6 && ` and ${sequence.missing.length - 6} more`}
            </p>
          )}
          <Button className="mt-1" onClick={() => setPicked(sequence.file)}>
            Columns
          </Button>
        </>
      )}
      {campaign.cast && (
        <p className="mt-1.5 flex items-center gap-2 text-small text-quiet">
          your own, to hand on:
          {["csv", "ecsv", "vot"].map((kind) => (
            <a
              key={kind}
              className="button"
              href={`/api/campaigns/${campaign.id}/sequence.${kind}`}
              download={`sequence.${kind}`}
            >
              {kind === "vot" ? "VOTable" : kind.toUpperCase()}
            </a>
          ))}
        </p>
      )}
      {picked && (
        <Columns key={file} campaign={campaign} file={file} onClose={() => setPicked("")} />
      )}
    </Section>
  );
}

function Columns(props: { campaign: Campaign; file: string; onClose: () => void }) {
  const { campaign, file, onClose } = props;
  const known = campaign.sequence?.file === file ? campaign.sequence : null;
  const [columns, setColumns] = useState<Meaning>(known?.columns ?? {});
  const [chart, setChart] = useState(known?.chart ?? "");
  const take = async () => {
    if (await takeSequence(campaign.id, { file, chart, columns })) onClose();
  };
  return (
    <Sheet title="Columns of the sequence" width={760} onClose={onClose}>
      <ColumnTable
        look={{ kind: "file", role: "stars", place: file, campaign: campaign.id }}
        said={columns}
        onSay={setColumns}
      />
      <div className="flex items-center gap-3">
        <label className="flex items-center gap-2 text-quiet">
          chart
          <input
            className="field w-40!"
            value={chart}
            placeholder="its number"
            onChange={(event) => setChart(event.target.value)}
          />
        </label>
        <Button main className="ml-auto" onClick={() => void take()}>
          Take the sequence
        </Button>
      </div>
    </Sheet>
  );
}
