import { useState } from "react";
import { layOver, takeOff } from "../../api/actions";
import { useOtherCurves } from "../../api/queries";
import { useApp } from "../../state";
import { PathField } from "../../ui/Field";
import { Section } from "../../ui/parts";
import { fixed, plural } from "../../ui/words";

const COLUMNS = ["time", "magnitude", "uncertainty", "filter"] as const;

/** Curves from elsewhere over the target's own: an earlier campaign's, somebody else's, a survey's. */
export function OthersSection() {
  const id = useApp((s) => s.campaign);
  const { data } = useOtherCurves(id);
  const [said, setSaid] = useState<Record<string, string>>({});
  const [open, setOpen] = useState(false);
  return (
    <Section title="Curves from elsewhere">
      {data?.curves.map((curve, place) => (
        <div key={curve.file + place} className="border-t border-line py-1 first:border-t-0">
          <p className="flex gap-2">
            <span className="min-w-0 truncate">{curve.name}</span>
            <button
              className="ml-auto text-quiet hover:text-ink"
              aria-label={`take ${curve.name} off`}
              onClick={() => void takeOff(place)}
            >
              ×
            </button>
          </p>
          <p className={`text-small ${curve.problem ? "text-trouble" : "text-quiet"}`}>
            {curve.problem ||
              `${plural(curve.points, "point")}, time from ${curve.columns.time}, magnitude from ${curve.columns.magnitude}`}
          </p>
          {curve.offset_mag !== null && (
            <p className="num text-small">
              {fixed(1000 * curve.offset_mag, 1)} ±{" "}
              {fixed(1000 * (curve.offset_uncertainty_mag ?? NaN), 1, "mmag")} from yours
            </p>
          )}
        </div>
      ))}
      <PathField
        label="lay over"
        what="a light curve"
        files="catalogue"
        none="CSV, ECSV, VOTable or FITS"
        value=""
        onSave={(file) => {
          if (!file) return;
          const columns = Object.fromEntries(Object.entries(said).filter(([, name]) => name));
          void layOver({ file, name: "", columns }).then((done) => done && setSaid({}));
        }}
      />
      <button
        className="text-small text-quiet hover:text-ink"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        Its columns, where they are not understood …
      </button>
      {open && (
        <div className="mt-1 grid grid-cols-2 gap-1.5">
          {COLUMNS.map((meaning) => (
            <input
              key={meaning}
              className="field num"
              aria-label={`column of the ${meaning}`}
              placeholder={meaning}
              value={said[meaning] ?? ""}
              onChange={(event) => setSaid({ ...said, [meaning]: event.target.value })}
            />
          ))}
        </div>
      )}
    </Section>
  );
}
