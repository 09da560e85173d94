import { saveSettings } from "../../api/actions";
import type { Campaign, Settings } from "../../api/types";
import { Field, PathField } from "../../ui/Field";
import { Section } from "../../ui/parts";
import { CatalogueSection } from "./CatalogueSection";
import { declination, rightAscension } from "../../ui/words";

/** Target, catalogue and site: beside the night that they describe. */
export function SetUp({ campaign }: { campaign: Campaign }) {
  const { target, site } = campaign;
  const save = (values: Partial<Settings>) => void saveSettings(values, campaign.id);
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
      <CatalogueSection campaign={campaign} />
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
