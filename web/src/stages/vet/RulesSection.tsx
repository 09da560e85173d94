import { useState } from "react";
import { changeVetting } from "../../api/actions";
import { useVetting } from "../../api/queries";
import type { VetRules } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";

const FIELDS: { key: keyof VetRules; words: string; unit: string }[] = [
  { key: "width", words: "stars wider than", unit: "× usual" },
  { key: "elongation", words: "drawn out beyond", unit: "" },
  { key: "light", words: "light below", unit: "of clear" },
  { key: "sky", words: "sky brighter than", unit: "× dark" },
  { key: "shade", words: "shaded below", unit: "of light" },
];

/** From where on exposures are put forward; what follows shows at once. */
export function RulesSection() {
  const id = useApp((s) => s.campaign);
  const { data } = useVetting(id);
  const [typed, setTyped] = useState<Partial<Record<keyof VetRules, string>>>({});
  if (!data) return null;
  const usual = FIELDS.every(({ key }) => data.rules[key] === data.usual[key]);

  function save(key: keyof VetRules): void {
    const value = Number((typed[key] ?? "").replace(",", "."));
    setTyped({ ...typed, [key]: undefined });
    if (typed[key]?.trim() && Number.isFinite(value) && value !== data!.rules[key])
      void changeVetting({ rules: { ...data!.rules, [key]: value } });
  }

  return (
    <Section title="Put forward from">
      <table className="w-full">
        <tbody>
          {FIELDS.map(({ key, words, unit }) => (
            <tr key={key}>
              <td className="text-quiet">{words}</td>
              <td className="w-16 py-0.5">
                <input
                  aria-label={`${words} ${unit}`}
                  className="field num text-right"
                  value={typed[key] ?? String(data.rules[key])}
                  onChange={(event) => setTyped({ ...typed, [key]: event.target.value })}
                  onBlur={() => save(key)}
                  onKeyDown={(event) => event.key === "Enter" && save(key)}
                />
              </td>
              <td className="w-16 pl-2 text-small whitespace-nowrap text-quiet">{unit}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {!usual && (
        <Button quiet className="mt-1" onClick={() => void changeVetting({ rules: data.usual })}>
          As usual again
        </Button>
      )}
    </Section>
  );
}
