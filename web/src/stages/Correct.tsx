import { startJob } from "../api/actions";
import { useCampaign, useCorrect, useExposures } from "../api/queries";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { Section } from "../ui/parts";
import { ChainSection } from "./correct/ChainSection";
import { DefectsSection } from "./correct/DefectsSection";
import { FiguresSection } from "./correct/FiguresSection";
import { ExportSection } from "./correct/ExportSection";
import { MasterRow } from "./correct/MasterRow";
import { Picks } from "./correct/Picks";

export function CorrectBench() {
  const id = useApp((s) => s.campaign);
  const beam = useApp((s) => s.beam);
  const { data: campaign } = useCampaign(id);
  const { data } = useCorrect(id);
  const { data: exposures } = useExposures(id);
  const stage = campaign?.stages.find((s) => s.key === "correct");
  const exposure = exposures?.exposures.find((e) => e.id === beam);
  const chain = data?.chains.find((c) => c.name === exposure?.chain);
  if (!data || !stage) return null;
  if (!data.chains.length)
    return (
      <Section title="From raw to corrected">
        <p className="mb-2">
          Combine the calibration frames into masters; each kind of exposure then gets the chain
          that fits it best.
        </p>
        <Button
          main
          disabled={stage.state === "waiting" || stage.state === "working"}
          onClick={() => void startJob("masters")}
        >
          Build the masters
        </Button>
        {stage.state === "waiting" && <p className="mt-1 text-quiet">{stage.words}</p>}
      </Section>
    );
  return (
    <>
      {stage.state === "todo" && (
        <Section>
          <p className="mb-2 border-l-2 border-beam pl-2 first-letter:uppercase">
            {stage.words.split("; ")[0]}.
          </p>
          <Button onClick={() => void startJob("masters")}>Build the masters again</Button>
        </Section>
      )}
      {chain && <ChainSection chain={chain} masters={data.masters} />}
      {chain && exposure && <FiguresSection file={exposure.id} />}
      {chain && <Picks chain={chain} />}
      {chain && exposure && (
        <DefectsSection
          key={exposure.chain}
          file={exposure.id}
          width={exposure.width}
          height={exposure.height}
        />
      )}
      {stage.state !== "todo" && <ExportSection />}
      <Section title="Masters" aside={String(data.masters.length)}>
        {data.masters.map((master) => (
          <MasterRow key={master.id} master={master} all={data.masters} />
        ))}
        <div className="mt-2 flex flex-wrap gap-2">
          <Button onClick={() => useApp.setState({ sheet: "shelf" })}>Shelf</Button>
          {stage.state !== "todo" && (
            <>
              <Button onClick={() => void startJob("masters")}>Build them again</Button>
              <Button onClick={() => useApp.setState({ stage: "place" })}>Next: Place</Button>
            </>
          )}
        </div>
      </Section>
    </>
  );
}
