import { saveSettings } from "../../api/actions";
import type { Campaign, Measuring } from "../../api/types";
import { Choice, Field } from "../../ui/Field";
import { Chips, Section } from "../../ui/parts";
import { radiusOf, radiusText, type RadiusKind } from "./radius";

const KINDS: { key: RadiusKind; words: string }[] = [
  { key: "auto", words: "chosen" },
  { key: "fixed", words: "fixed" },
  { key: "follows", words: "follows the stars" },
];

const SAYS: Record<RadiusKind, string> = {
  auto: "Twelve radii about the night’s star width, the best of them chosen in each filter.",
  fixed: "So many pixels on every exposure, with eleven others about it.",
  follows: "So many star widths of each exposure: wider where the seeing is worse.",
};

/** What the census is made with: which radii, and where the sky is taken from. */
export function MeasuringSection({ campaign }: { campaign: Campaign }) {
  const { measuring } = campaign;
  const save = (values: Partial<Measuring>) =>
    void saveSettings({ measuring: { ...measuring, ...values } });
  const [inner, outer] = measuring.annulus;
  const radius = radiusOf(measuring.radius);
  const number = (text: string, old: number) => {
    const value = Number(text.replace(",", "."));
    return text.trim() && Number.isFinite(value) ? value : old;
  };
  return (
    <Section title="What it is measured with">
      <Chips
        label="radius"
        value={radius.kind}
        onChange={(kind) => save({ radius: radiusText(kind, null) })}
        options={KINDS}
      />
      <p className="mt-1 text-small text-quiet">{SAYS[radius.kind]}</p>
      {radius.kind !== "auto" && (
        <Field
          label={radius.kind === "fixed" ? "radius, px" : "star widths"}
          value={String(radius.value)}
          onSave={(v) => save({ radius: radiusText(radius.kind, number(v, radius.value)) })}
        />
      )}
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
        Or draw the ring’s edges on the plate, close to a star.
      </p>
    </Section>
  );
}
