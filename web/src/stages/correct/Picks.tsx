import { pickMaster } from "../../api/actions";
import type { Chain } from "../../api/types";
import { Section } from "../../ui/parts";

const STEPS = ["bias", "dark", "flat"] as const;
const LEFT_OUT = "none";

/** The master of each step: as it fits best, another one, or none. */
export function Picks({ chain }: { chain: Chain }) {
  return (
    <Section title="Its masters" aside="yours to pick">
      {STEPS.map((step) => {
        const options = chain.options.filter((o) => o.step === step);
        const picked = options.find((o) => o.picked);
        const value = chain.left_out.includes(step) ? LEFT_OUT : (picked?.key ?? "");
        return (
          <label key={step} className="mb-1.5 flex items-center gap-2 last:mb-0">
            <span className="w-9 shrink-0 text-quiet">{step}</span>
            <select
              aria-label={`${step} of this chain`}
              className={`field ${value ? "text-beam" : ""}`}
              value={value}
              disabled={!options.length && !value}
              onChange={(event) => void pickMaster(chain.name, step, event.target.value)}
            >
              <option value="">{options.length ? "the best that fits" : "there is none"}</option>
              {options.map((o) => (
                <option key={o.key} value={o.key} title={o.remarks.join("; ")}>
                  {o.label}: {o.words}
                  {o.remarks.length > 0 && " · doubtful"}
                </option>
              ))}
              {(options.length > 0 || value) && (
                <option value={LEFT_OUT}>none: leave this step out</option>
              )}
            </select>
          </label>
        );
      })}
    </Section>
  );
}
