import { saveSettings } from "../../api/actions";
import type { Campaign, Measuring } from "../../api/types";
import { Choice, Field } from "../../ui/Field";
import { Section } from "../../ui/parts";

/** What the census is made with: which radii, and where the sky is taken from. */
export function MeasuringSection({ campaign }: { campaign: Campaign }) {
  const { measuring } = campaign;
  const save = (values: Partial<Measuring>) =>
    void saveSettings({ measuring: { ...measuring, ...values } });
  const [inner, outer] = measuring.annulus;
  const number = (text: string, old: number) => {
    const value = Number(text.replace(",", "."));
    return text.trim() && Number.isFinite(value) ? value : old;
  };
  return (
    <Section title="What it is measured with">
      <Field
        label="radius"
        value={measuring.radius}
        hint="auto, pixels, or 1.6 fwhm"
        onSave={(radius) => save({ radius: radius || "auto" })}
      />
      <Field
        label="ring from"
        value={String(inner)}
        onSave={(v) => save({ annulus: [number(v, inner), outer] })}
      />
      <Field
        label="ring to"
        value={String(outer)}
        onSave={(v) => save({ annulus: [inner, number(v, outer)] })}
      />
      <Choice
        label="ring in"
        value={measuring.annulus_in_pixels ? "px" : "fwhm"}
        options={[
          ["fwhm", "star widths"],
          ["px", "pixels"],
        ]}
        onSave={(v) => save({ annulus_in_pixels: v === "px" })}
      />
      <p className="mt-1 text-small text-quiet">
        auto: twelve radii about the star width, the best chosen by the night. A number of pixels
        holds for every exposure; “1.6 fwhm” follows the star width of each.
      </p>
    </Section>
  );
}
