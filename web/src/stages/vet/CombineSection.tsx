import { useState } from "react";
import { startJob } from "../../api/actions";
import { useJobs } from "../../api/queries";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Field";
import { Section } from "../../ui/parts";

const METHODS = [
  ["clipped", "clipped mean"],
  ["mean", "mean of all"],
  ["median", "median"],
] as const;

/** Runs of exposures combined for a faint target: a campaign of their own, measured like any. */
export function CombineSection() {
  const id = useApp((s) => s.campaign);
  const { data: jobs } = useJobs(id);
  const [count, setCount] = useState("10");
  const [unit, setUnit] = useState<"every" | "minutes">("every");
  const [method, setMethod] = useState("clipped");
  const selection = useApp((s) => s.selection);
  const some = selection.length > 1;
  const last = jobs?.jobs.find((job) => job.kind === "combine");
  const busy = last?.state === "running" || last?.state === "waiting";
  const number = Number(count.replace(",", "."));
  const usable = unit === "every" ? Number.isInteger(number) && number >= 2 : number > 0;
  return (
    <Section title="Combine" aside="for a faint target">
      <div className="flex items-center gap-2">
        <input
          className="field num w-16!"
          aria-label="how many make one"
          value={count}
          onChange={(event) => setCount(event.target.value)}
        />
        <select
          className="field"
          aria-label="of what"
          value={unit}
          onChange={(event) => setUnit(event.target.value as "every" | "minutes")}
        >
          <option value="every">exposures make one</option>
          <option value="minutes">minutes make one</option>
        </select>
      </div>
      <Choice label="by" value={method} options={METHODS} onSave={setMethod} />
      <p className="mt-1 text-small text-quiet">
        Aligned, weighted by what each brings; those set aside take no part.{" "}
        {some && `Of the ${selection.length} that are selected alone. `}They become a campaign of
        their own.
      </p>
      <Button
        className="mt-1.5"
        disabled={busy || !usable}
        onClick={() =>
          void startJob("combine", { [unit]: number, method, ids: some ? selection : [] })
        }
      >
        {busy ? "Combining …" : some ? "Combine what is selected" : "Combine them"}
      </Button>
      {last?.state === "done" && <p className="mt-1 text-small text-quiet">{last.words}.</p>}
      {last?.state === "failed" && <p className="mt-1 text-small text-trouble">{last.words}</p>}
    </Section>
  );
}
