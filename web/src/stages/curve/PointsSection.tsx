import { useState } from "react";
import { sayOfPoints } from "../../api/actions";
import { useCurve, usePoints } from "../../api/queries";
import type { PointsSaid } from "../../api/types";
import { useApp } from "../../state";
import { Section } from "../../ui/parts";
import { Row } from "../../ui/Field";

const TAKEN = ["airmass", "star width", "sky", "place"] as const;
const FLAGS = ["bad pixel", "cosmic ray", "neighbour", "odd light"] as const;

/** Which points are doubtful by rule, and what the check star follows taken out of all of them. */
export function PointsSection() {
  const id = useApp((s) => s.campaign);
  const { data: curve } = useCurve(id);
  const { data: said } = usePoints(id);
  if (id === null || !said) return null;
  const say = (change: Partial<PointsSaid>) => void sayOfPoints(id, { ...said, ...change });
  const toggled = <T extends string>(list: readonly T[], word: T) =>
    list.includes(word) ? list.filter((one) => one !== word) : [...list, word];
  const words = (curve?.filters ?? []).filter((f) => f.taken);
  return (
    <Section title="Rules for points">
      <Number
        label="uncertain above"
        unit="mmag"
        value={said.most_uncertainty_mag == null ? null : 1000 * said.most_uncertainty_mag}
        onSay={(v) => say({ most_uncertainty_mag: v === null ? null : v / 1000 })}
      />
      <Number
        label="check star off by"
        unit="× its ±"
        value={said.check_off_sigma ?? null}
        onSay={(v) => say({ check_off_sigma: v })}
      />
      <p className="mt-2 mb-1 text-quiet">Doubtful for these, however little they cost:</p>
      <Toggles
        words={FLAGS}
        on={said.without ?? []}
        onToggle={(word) => say({ without: toggled(said.without ?? [], word) })}
      />
      <p className="mt-2 mb-1 text-quiet">
        Take out of all points what the check star shows, by a straight line in each:
      </p>
      <Toggles
        words={TAKEN}
        on={said.take_out ?? []}
        onToggle={(word) => say({ take_out: toggled(said.take_out ?? [], word) })}
      />
      <div className="mt-1">
        <Toggles
          words={["means of the nights"]}
          on={said.nights_alike ? ["means of the nights"] : []}
          onToggle={() => say({ nights_alike: !said.nights_alike })}
        />
      </div>
      {words.map((f) => (
        <p key={f.filter} className="mt-1 text-beam">
          {f.filter}: {f.taken}
        </p>
      ))}
    </Section>
  );
}

function Toggles<T extends string>(props: {
  words: readonly T[];
  on: readonly string[];
  onToggle: (word: T) => void;
}) {
  return (
    <div className="flex flex-wrap gap-x-3">
      {props.words.map((word) => (
        <label key={word} className="flex min-h-6 items-center gap-1">
          <input
            type="checkbox"
            checked={props.on.includes(word)}
            onChange={() => props.onToggle(word)}
          />
          {word}
        </label>
      ))}
    </div>
  );
}

/** A number that may be left empty for none. */
function Number(props: {
  label: string;
  unit: string;
  value: number | null;
  onSay: (value: number | null) => void;
}) {
  const known = props.value === null ? "" : String(+props.value.toFixed(3));
  const [typed, setTyped] = useState<string | null>(null);
  const done = () => {
    if (typed === null) return;
    const value = typed.trim() === "" ? null : parseFloat(typed.replace(",", "."));
    setTyped(null);
    if (value !== props.value && (value === null || value > 0)) props.onSay(value);
  };
  return (
    <Row label={props.label}>
      <span className="flex items-center gap-2">
        <input
          aria-label={props.label}
          className="field num w-16! text-right"
          inputMode="decimal"
          placeholder="none"
          value={typed ?? known}
          onChange={(event) => setTyped(event.target.value)}
          onBlur={done}
          onKeyDown={(event) => event.key === "Enter" && done()}
        />
        <span className="text-quiet">{props.unit}</span>
      </span>
    </Row>
  );
}
