import { useState, type ReactNode } from "react";
import { act, refresh, useAppState } from "../../api/queries";
import type { Campaign, Settings } from "../../api/types";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";
import { declination, rightAscension } from "../../ui/words";

/** Target, catalogue, site and kit: beside the night that they describe. */
export function SetUp({ campaign }: { campaign: Campaign }) {
  const { data: state } = useAppState();
  const { target, site, kit } = campaign;
  const save = (values: Partial<Settings>) =>
    void act("PATCH", `/api/campaigns/${campaign.id}`, values).then(() => refresh(campaign.id));
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
        <Field
          label="file"
          value=""
          hint="path of a VOTable, ECSV, CSV or FITS"
          onSave={(v) => save({ catalogue_file: v })}
        />
        <Field
          label="service"
          value={campaign.cone_url ?? ""}
          hint="http://… cone search"
          onSave={(v) => save({ cone_url: v })}
        />
        {state?.cone_url && !campaign.catalogue && campaign.cone_url !== state.cone_url && (
          <Button onClick={() => save({ cone_url: state.cone_url })}>
            Use the stand-in service of the demo field
          </Button>
        )}
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
      <Section title="Kit">
        {(
          [
            ["gain_e_per_adu", "gain, e⁻ an ADU"],
            ["read_noise_e", "read noise, e⁻"],
            ["linear_limit_adu", "linear limit, ADU"],
            ["aperture_m", "telescope, m"],
            ["scale_arcsec_per_px", "scale, ″ a pixel"],
            ["clock_offset_s", "clock offset, s"],
          ] as const
        ).map(([key, label]) => (
          <Field
            key={key}
            label={label}
            value={kit[key] == null ? "" : String(kit[key])}
            hint="read or measured"
            onSave={(v) =>
              save({ kit: { ...kit, [key]: number(v) ?? (key === "clock_offset_s" ? 0 : null) } })
            }
          />
        ))}
        <p className="mt-1 text-small text-quiet">
          {Object.entries(campaign.constants)
            .map(([name, words]) => `${name.split("_").slice(0, -1).join(" ")}: ${words}`)
            .join(". ")}
        </p>
      </Section>
    </>
  );
}

function Row({ label, children }: { label: string; children: ReactNode }) {
  return (
    <label className="flex items-center gap-2 py-0.5">
      <span className="w-28 shrink-0 text-quiet">{label}</span>
      {children}
    </label>
  );
}

/** Takes effect when it is left or with Enter. */
function Field(props: {
  label: string;
  value: string;
  hint?: string;
  onSave: (v: string) => void;
}) {
  const [text, setText] = useState<string | null>(null);
  const shown = text ?? props.value;
  const keep = () => {
    if (text !== null && text.trim() !== props.value) props.onSave(text.trim());
    setText(null);
  };
  return (
    <Row label={props.label}>
      <input
        className="field num"
        value={shown}
        placeholder={props.hint}
        onChange={(event) => setText(event.target.value)}
        onBlur={keep}
        onKeyDown={(event) => event.key === "Enter" && keep()}
      />
    </Row>
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
