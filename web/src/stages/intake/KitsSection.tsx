import { useState } from "react";
import { saveSettings, sayOfKit } from "../../api/actions";
import { useKits } from "../../api/queries";
import type { Campaign, Kit, KitSaid } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Choice, Field } from "../../ui/Field";
import { Section } from "../../ui/parts";
import { plural } from "../../ui/words";

const CONSTANTS = [
  ["gain_e_per_adu", "gain, e⁻ an ADU"],
  ["read_noise_e", "read noise, e⁻"],
  ["linear_limit_adu", "linear limit, ADU"],
  ["scale_arcsec_per_px", "scale, ″ a pixel"],
] as const;
const numberOf = (text: string) => (text.trim() === "" ? null : Number(text.replace("−", "-")));

/** The kits of the night, each in its settings: their constants, where from, and their rules. */
export function KitsSection({ campaign }: { campaign: Campaign }) {
  const { data } = useKits(campaign.id);
  const [chosen, setChosen] = useState("");
  const kits = data?.kits ?? [];
  const shown = kits.find((k) => k.name === chosen) ?? kits[0];
  const several = kits.length > 1;
  return (
    <Section title={several ? "Kits" : "Kit"} aside={several ? "one in each setting" : ""}>
      {several && (
        <ul className="mb-1.5">
          {kits.map((kit) => (
            <li key={kit.name} className="border-t border-line first:border-t-0">
              <button
                className={`block w-full py-1 text-left ${kit === shown ? "text-beam" : "hover:text-beam"}`}
                aria-pressed={kit === shown}
                onClick={() => setChosen(kit.name)}
              >
                <span className="num block">{kit.kit}</span>
                <span className="flex text-small text-quiet">
                  <span className="num">{kit.setting}</span>
                  <span className="ml-auto">{plural(kit.exposures, "exposure")}</span>
                </span>
              </button>
            </li>
          ))}
        </ul>
      )}
      {shown && (
        <KitFields key={shown.name} kit={shown} campaign={campaign} main={shown === kits[0]} />
      )}
      <Telescope campaign={campaign} />
    </Section>
  );
}

/** What is said of a kit, and what holds where nothing is. */
function KitFields(props: { kit: Kit; campaign: Campaign; main: boolean }) {
  const { kit, campaign, main } = props;
  const say = (values: Partial<KitSaid>) => void sayOfKit(kit.name, { ...kit.said, ...values });
  return (
    <>
      {!kit.name.startsWith("camera,") && (
        <p className="num mb-1 text-small text-quiet" hidden={!main}>
          {kit.name}
        </p>
      )}
      {CONSTANTS.map(([key, label]) => {
        const planned = main ? campaign.kit[key] : null;
        return (
          <div key={key}>
            <Field
              label={label}
              value={kit.said[key] == null ? "" : String(kit.said[key])}
              hint={planned == null ? "read or measured" : String(planned)}
              onSave={(v) => say({ [key]: numberOf(v) })}
            />
            {kit.constants[key] && (
              <p className="num mb-0.5 ml-30 text-small text-quiet">{kit.constants[key]}</p>
            )}
          </div>
        );
      })}
      {kit.constants.step_adu && (
        <p className="text-small text-quiet">Values come in steps of {kit.constants.step_adu}.</p>
      )}
      <Button
        className="mt-1"
        onClick={() => useApp.setState({ sheet: "transfer", kit: kit.name })}
      >
        From its flats and bias …
      </Button>
      <Rules kit={kit} say={say} />
    </>
  );
}

/** How its calibration frames are combined, and when a master fits. */
function Rules({ kit, say }: { kit: Kit; say: (values: Partial<KitSaid>) => void }) {
  const { said, rules } = kit;
  const own = (value: number | null | undefined, times = 1) =>
    value == null ? "" : String(Number((times * value).toPrecision(6)));
  return (
    <details className="my-1.5">
      <summary className="cursor-pointer text-quiet hover:text-ink">
        Rules for its darks, flats and bias
      </summary>
      <p className="mt-1 text-small text-quiet">A dark is taken as it is within</p>
      <Field
        label="exposure, ± %"
        value={own(said.exposure_tolerance, 100)}
        hint={own(rules.exposure_tolerance, 100)}
        onSave={(v) => {
          const share = numberOf(v);
          say({ exposure_tolerance: share === null ? null : share / 100 });
        }}
      />
      <Field
        label="sensor, ± °C"
        value={own(said.temperature_tolerance_c)}
        hint={own(rules.temperature_tolerance_c)}
        onSave={(v) => say({ temperature_tolerance_c: numberOf(v) })}
      />
      <Field
        label="it lasts, days"
        value={own(said.lasts_days)}
        hint={own(rules.lasts_days)}
        onSave={(v) => say({ lasts_days: numberOf(v) })}
      />
      <Choice
        label="combined by"
        value={said.combine ?? ""}
        options={[
          ["", `${COMBINATIONS[rules.combine]}, as usual`],
          ...Object.entries(COMBINATIONS).map(([key, words]) => [key, words] as const),
        ]}
        onSave={(v) => say({ combine: (v || null) as KitSaid["combine"] })}
      />
      {rules.combine === "clipped" && (
        <Field
          label="clipped beyond, σ"
          value={own(said.clip_sigma)}
          hint={own(rules.clip_sigma)}
          onSave={(v) => say({ clip_sigma: numberOf(v) })}
        />
      )}
    </details>
  );
}

const COMBINATIONS: Record<string, string> = {
  clipped: "clipped mean",
  mean: "mean",
  median: "median",
};

/** What holds for all kits of the campaign: telescope and clock. */
function Telescope({ campaign }: { campaign: Campaign }) {
  const { kit } = campaign;
  const save = (values: Partial<typeof kit>) =>
    void saveSettings({ kit: { ...kit, ...values } }, campaign.id);
  return (
    <>
      <Field
        label="telescope, m"
        value={kit.aperture_m == null ? "" : String(kit.aperture_m)}
        hint="read"
        onSave={(v) => save({ aperture_m: numberOf(v) })}
      />
      <Field
        label="clock offset, s"
        value={String(kit.clock_offset_s)}
        onSave={(v) => save({ clock_offset_s: numberOf(v) ?? 0 })}
      />
      <Choice
        label="header's time is"
        value={kit.timestamp}
        options={[
          ["start", "start of exposure"],
          ["middle", "its middle"],
        ]}
        onSave={(v) => save({ timestamp: v === "middle" ? "middle" : "start" })}
      />
      <Choice
        label="colour pattern"
        value={campaign.pattern ?? ""}
        options={[
          ["", "as the headers say"],
          ...(["RGGB", "BGGR", "GRBG", "GBRG"] as const).map((p) => [p, p] as const),
        ]}
        onSave={(v) =>
          void saveSettings({ pattern: v as "" | "RGGB" | "BGGR" | "GRBG" | "GBRG" }, campaign.id)
        }
      />
    </>
  );
}
