import { saveSettings } from "../../api/actions";
import { useAppState } from "../../api/queries";
import type { Campaign, Settings } from "../../api/types";
import { Button } from "../../ui/Button";
import { Choice, Field, PathField } from "../../ui/Field";
import { Section } from "../../ui/parts";
import { declination, rightAscension } from "../../ui/words";

/** Target, catalogue and site: beside the night that they describe. */
export function SetUp({ campaign }: { campaign: Campaign }) {
  const { data: state } = useAppState();
  const { target, site } = campaign;
  const save = (values: Partial<Settings>) => void saveSettings(values, campaign.id);
  const demo = state?.demo_folder;
  const inDemo =
    demo &&
    campaign.folders.length > 0 &&
    campaign.folders.every((folder) => folder.startsWith(demo));
  const number = (text: string) => (text.trim() === "" ? null : Number(text.replace("−", "-")));

  return (
    <>
      <Section title="Target">
        <Field label="name" value={target.name} onSave={(v) => save({ target_name: v })} />
        <PositionFields
          ra={target.ra_deg === null ? "" : rightAscension(target.ra_deg)}
          dec={target.dec_deg === null ? "" : declination(target.dec_deg)}
          onSave={(ra, dec) => save({ target_ra: ra, target_dec: dec.replace("−", "-") })}
        />
      </Section>
      <Section
        title="Star catalogue"
        aside={campaign.catalogue ? `${campaign.catalogue.stars} stars` : ""}
      >
        {campaign.catalogue ? (
          <p className="num mb-1 text-quiet">
            {campaign.catalogue.name} · {campaign.catalogue.bands.join(" ")}
          </p>
        ) : (
          <p className="mb-1 text-beam">
            {campaign.cone_url
              ? "It is searched when the exposures are placed."
              : "Needed to place the exposures: a file, or a cone search service."}
          </p>
        )}
        <PathField
          label="file"
          what="the star catalogue"
          files="catalogue"
          none="no file"
          value={
            campaign.catalogue?.origin.includes("://") ? "" : (campaign.catalogue?.origin ?? "")
          }
          onSave={(v) => save({ catalogue_file: v })}
        />
        <Field
          label="service"
          value={campaign.cone_url ?? ""}
          hint="http://…"
          onSave={(v) => save({ cone_url: v })}
        />
        {state?.cone_url &&
          inDemo &&
          !campaign.catalogue &&
          campaign.cone_url !== state.cone_url && (
            <Button onClick={() => save({ cone_url: state.cone_url })}>
              Use the stand-in service of the demo field
            </Button>
          )}
        <Field
          label="epoch, year"
          value={campaign.epoch_yr == null ? "" : String(campaign.epoch_yr)}
          hint="2000"
          onSave={(v) => save({ epoch_yr: number(v) })}
        />
        {campaign.catalogue && campaign.filters.length > 0 && (
          <>
            <p className="mt-1.5 text-small text-quiet">Band that stands for each filter:</p>
            {campaign.filters.map((filter) => (
              <Choice
                key={filter}
                label={filter}
                value={campaign.bands[filter] ?? ""}
                options={[
                  ["", byTable(campaign, filter)] as const,
                  ...campaign.catalogue!.bands.map((band) => [band, band] as const),
                ]}
                onSave={(band) => save({ bands: withBand(campaign.bands, filter, band) })}
              />
            ))}
          </>
        )}
      </Section>
      <Section title="Files">
        <Field
          label="filter, if none"
          value={campaign.default_filter ?? ""}
          hint="V"
          onSave={(v) => save({ default_filter: v })}
        />
        <PathField
          label="older masters"
          what="the folder of earlier masters"
          none="no folder"
          value={campaign.library ?? ""}
          onSave={(v) => save({ library: v })}
          clear
        />
      </Section>
      <Section title="Site">
        {(
          [
            ["latitude_deg", "latitude, °"],
            ["longitude_deg", "longitude, ° east"],
            ["elevation_m", "height, m"],
          ] as const
        ).map(([key, label]) => (
          <Field
            key={key}
            label={label}
            value={site ? String(site[key]) : ""}
            onSave={(v) =>
              save({
                site: {
                  ...(site ?? { latitude_deg: 0, longitude_deg: 0, elevation_m: 0 }),
                  [key]: number(v) ?? 0,
                },
              })
            }
          />
        ))}
      </Section>
    </>
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

function PositionFields(props: {
  ra: string;
  dec: string;
  onSave: (ra: string, dec: string) => void;
}) {
  return (
    <>
      <Field
        label="right ascension"
        value={props.ra}
        hint="22 41 02.6"
        onSave={(v) => props.onSave(v, props.dec || "+0")}
      />
      <Field
        label="declination"
        value={props.dec}
        hint="+38 12 44"
        onSave={(v) => props.onSave(props.ra || "0", v)}
      />
    </>
  );
}
