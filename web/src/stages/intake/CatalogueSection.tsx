import { useState } from "react";
import { saveSettings } from "../../api/actions";
import { useAppState } from "../../api/queries";
import type { Campaign, Settings } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { ColumnTable } from "../../ui/catalogues/ColumnTable";
import { Choice, Field, PathField } from "../../ui/Field";
import { Section } from "../../ui/parts";
import { Sheet } from "../../ui/Sheet";
import { dayOf } from "../../ui/words";

/** Where the field's stars come from: its own file or service, else the observatory's catalogues. */
export function CatalogueSection({ campaign }: { campaign: Campaign }) {
  const { data: state } = useAppState();
  const [columns, setColumns] = useState(false);
  const save = (values: Partial<Settings>) => void saveSettings(values, campaign.id);
  const { catalogue, served_by: served } = campaign;
  const demo = state?.demo_folder;
  const inDemo =
    demo &&
    campaign.folders.length > 0 &&
    campaign.folders.every((folder) => folder.startsWith(demo));
  const file = catalogue && !catalogue.origin.includes("://") ? catalogue.origin : "";
  return (
    <Section title="Star catalogue" aside={catalogue ? `${catalogue.stars} stars` : ""}>
      {catalogue ? (
        <p className="num mb-1 text-quiet">
          {catalogue.name} · {catalogue.bands.join(" ")}
          {catalogue.fetched && ` · fetched ${dayOf(catalogue.fetched)}`}
        </p>
      ) : (
        <p className="mb-1 text-beam">
          {served.length
            ? `Looked up in ${served.join(" and ")} when the exposures are placed.`
            : "Needed to place the exposures: a file, a service, or a catalogue of the observatory."}
        </p>
      )}
      <PathField
        label="file"
        what="the star catalogue"
        files="catalogue"
        none="no file"
        value={file}
        onSave={(v) => save({ catalogue_file: v })}
      />
      <Field
        label="service"
        value={campaign.cone_url ?? ""}
        hint="http://…"
        onSave={(v) => save({ cone_url: v })}
      />
      {state?.cone_url && inDemo && !catalogue && campaign.cone_url !== state.cone_url && (
        <Button onClick={() => save({ cone_url: state.cone_url })}>
          Use the stand-in service of the demo field
        </Button>
      )}
      <Field
        label="epoch, year"
        value={campaign.epoch_yr == null ? "" : String(campaign.epoch_yr)}
        hint="2000"
        onSave={(v) => save({ epoch_yr: v.trim() === "" ? null : Number(v) })}
      />
      {served.length > 1 && (
        <label className="flex items-center gap-2 py-0.5">
          <input
            type="checkbox"
            checked={campaign.merge}
            onChange={(event) => save({ merge: event.target.checked })}
          />
          bring all {served.length} catalogues together
        </label>
      )}
      <div className="flex flex-wrap gap-1 py-1">
        <Button onClick={() => useApp.setState({ sheet: "catalogues" })}>Catalogues</Button>
        {file && <Button onClick={() => setColumns(true)}>Columns</Button>}
        {catalogue && (
          <Button
            title="Read the stars anew, with the variables that are known now"
            onClick={() => save({ fetch_again: true })}
          >
            Fetch again
          </Button>
        )}
      </div>
      {columns && (
        <Sheet
          title={`Columns of ${catalogue!.name}`}
          width={760}
          onClose={() => setColumns(false)}
        >
          <ColumnTable
            look={{ kind: "file", role: "stars", place: catalogue!.path, campaign: campaign.id }}
            said={campaign.columns}
            onSay={(said) => save({ columns: said })}
          />
        </Sheet>
      )}
      {catalogue && campaign.filters.length > 0 && (
        <>
          <p className="mt-1.5 text-small text-quiet">Band that stands for each filter:</p>
          {campaign.filters.map((filter) => (
            <Choice
              key={filter}
              label={filter}
              value={campaign.bands[filter] ?? ""}
              options={[
                ["", byTable(campaign, filter)] as const,
                ...catalogue.bands.map((band) => [band, band] as const),
              ]}
              onSave={(band) => save({ bands: withBand(campaign.bands, filter, band) })}
            />
          ))}
        </>
      )}
    </Section>
  );
}

/** What stands for a filter where the observer says nothing. */
function byTable(campaign: Campaign, filter: string): string {
  if (campaign.bands[filter]) return "as its name says";
  const found = campaign.bands_found[filter];
  if (!found) return "none: choose one";
  return found === filter ? `${found}, its own` : `${found} stands in`;
}

function withBand(
  bands: Record<string, string>,
  filter: string,
  band: string,
): Record<string, string> {
  const others = Object.entries(bands).filter(([name]) => name !== filter);
  return Object.fromEntries(band ? [...others, [filter, band]] : others);
}
