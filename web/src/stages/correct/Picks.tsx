import { pickMaster } from "../../api/actions";
import { useOptions } from "../../api/queries";
import type { Chain, MasterOption, Options } from "../../api/types";
import { useApp } from "../../state";
import { Section } from "../../ui/parts";

const STEPS = ["bias", "dark", "flat"] as const;
const LEFT_OUT = "none";
const GRADES: Record<string, string> = {
  exact: "fits exactly",
  scaled: "fits when scaled",
  poor: "fits poorly",
};

/** The master of each step: as it fits best, another one, or none; and how well each fits. */
export function Picks({ chain }: { chain: Chain }) {
  const { data } = useOptions(
    useApp((s) => s.campaign),
    chain.name,
  );
  if (!data) return null;
  return (
    <Section title="Its masters" aside="yours to pick">
      {STEPS.map((step) => (
        <Step key={step} chain={chain} offered={data} step={step} />
      ))}
      <Lean chain={chain} offered={data} />
    </Section>
  );
}

/** What the flat is straightened by, where the stars show that it leans. */
function Lean({ chain, offered }: { chain: Chain; offered: Options }) {
  const options = offered.options.filter((o) => o.step === "lean");
  const picked = options.find((o) => o.picked);
  if (!options.length) return null;
  return (
    <div className="mb-2 last:mb-0">
      <label className="flex items-center gap-2">
        <span className="w-9 shrink-0 text-quiet">lean</span>
        <select
          aria-label="lean of this chain's flat"
          className={`field ${picked ? "text-beam" : ""}`}
          value={picked?.key ?? ""}
          onChange={(event) => void pickMaster(chain.name, "lean", event.target.value)}
        >
          <option value="">as the flat is</option>
          {options.map((o) => (
            <option key={o.key} value={o.key}>
              straighten it {o.words}
            </option>
          ))}
        </select>
      </label>
      {options.map((o) => (
        <p key={o.key} className="mt-0.5 ml-11 text-small text-quiet">
          {o.words}: {o.label}
        </p>
      ))}
    </div>
  );
}

interface StepProps {
  chain: Chain;
  offered: Options;
  step: (typeof STEPS)[number];
}

function Step({ chain, offered, step }: StepProps) {
  const options = offered.options.filter((o) => o.step === step);
  const more = offered.more[step] ?? 0;
  const picked = options.find((o) => o.picked);
  const left = chain.left_out.includes(step);
  const value = left ? LEFT_OUT : (picked?.key ?? "");
  const used = picked ?? options.find((o) => chain.masters.includes(o.key));
  const others = options.filter((o) => o !== used);
  return (
    <div className="mb-2 last:mb-0">
      <label className="flex items-center gap-2">
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
              {o.label}: {GRADES[o.grade] ?? o.words}
            </option>
          ))}
          {(options.length > 0 || value) && (
            <option value={LEFT_OUT}>none: leave this step out</option>
          )}
        </select>
      </label>
      {used && !left && (
        <p className="mt-0.5 ml-11 text-small">
          <Grade option={used} />
          {used.fit.length > 0 && <span className="text-quiet">: {used.fit.join(", ")}</span>}
        </p>
      )}
      {!left && others.length > 0 && (
        <details className="mt-0.5 ml-11 text-small text-quiet">
          <summary className="cursor-pointer hover:text-ink">
            {counted(others.length + more, used !== undefined)} not taken
          </summary>
          <ul>
            {others.map((o) => (
              <li key={o.key} className="py-0.5">
                {o.label}: <Grade option={o} />
                {o.differs && `, ${o.differs}`}
              </li>
            ))}
            {more > 0 && <li className="py-0.5">and {more} of nights farther away</li>}
          </ul>
        </details>
      )}
    </div>
  );
}

function counted(count: number, others: boolean): string {
  const word = count === 1 ? "other was" : "others were";
  return others ? `${count} ${word}` : `${count} ${count === 1 ? "was" : "were"}`;
}

function Grade({ option }: { option: MasterOption }) {
  return (
    <span className={option.grade === "poor" ? "text-beam" : ""}>
      {GRADES[option.grade] ?? option.words}
    </span>
  );
}
