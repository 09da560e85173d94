import { useState } from "react";
import { startJob } from "../../api/actions";
import { useCampaign, useJobs } from "../../api/queries";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";

/** All exposures corrected, as files for other programs. */
export function ExportSection() {
  const id = useApp((s) => s.campaign);
  const { data: campaign } = useCampaign(id);
  const { data: jobs } = useJobs(id);
  const [pedestal, setPedestal] = useState("");
  const last = jobs?.jobs.find((job) => job.kind === "export");
  const adu = pedestal.trim() === "" ? 0 : Number(pedestal.replace(",", "."));
  const busy = last?.state === "running" || last?.state === "waiting";
  return (
    <Section title="Corrected files" aside="32-bit FITS">
      <label className="flex items-center gap-2">
        <span className="shrink-0 text-quiet">pedestal</span>
        <input
          className="field num"
          aria-label="pedestal in ADU"
          placeholder="0"
          title="Added to every pixel, and written into the header, for programs that know no negative values"
          value={pedestal}
          onChange={(event) => setPedestal(event.target.value)}
        />
        <span className="text-quiet">ADU</span>
        <Button
          className="whitespace-nowrap"
          disabled={busy || !(adu >= 0) || !campaign}
          onClick={() => void startJob("export", { pedestal_adu: adu })}
        >
          {busy ? "Writing …" : "Write them"}
        </Button>
      </label>
      {last?.state === "done" && (
        <p className="mt-1 text-small break-words text-quiet">{last.words}</p>
      )}
      {last?.state === "failed" && <p className="mt-1 text-small text-trouble">{last.words}</p>}
    </Section>
  );
}
