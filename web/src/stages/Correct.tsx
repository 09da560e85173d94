import { startJob } from "../api/actions";
import { useCampaign, useCorrect, useExposures } from "../api/queries";
import type { Master } from "../api/types";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { Fact, Section } from "../ui/parts";
import { dayOf, fixed, seconds } from "../ui/words";
import { ChainSection } from "./correct/ChainSection";
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
          <p className="mb-2 border-l-2 border-beam pl-2">
            Some exposures have no chain yet, or what the masters are made of has changed.
          </p>
          <Button onClick={() => void startJob("masters")}>Build the masters again</Button>
        </Section>
      )}
      {chain && <ChainSection chain={chain} />}
      {chain && <Picks chain={chain} />}
      <Section title="Masters" aside={String(data.masters.length)}>
        {data.masters.map((master) => (
          <MasterRow key={master.id} master={master} all={data.masters} />
        ))}
        <div className="mt-2 flex gap-2">
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

function MasterRow({ master, all }: { master: Master; all: readonly Master[] }) {
  const shown = useApp((s) => s.master);
  const beside = useApp((s) => s.beside);
  const like = all.filter(
    (m) => m.id !== master.id && m.kind === master.kind && m.filter === master.filter,
  );
  const set = useApp((s) => s.set);
  const on = shown === master.id;
  return (
    <div className="border-t border-line first:border-t-0">
      <button
        className={`flex w-full py-1 text-left ${on ? "text-beam" : "hover:text-beam"}`}
        aria-pressed={on}
        onClick={() => set({ master: on ? null : master.id, beside: null })}
      >
        <span className={`whitespace-nowrap ${master.used ? "" : "text-quiet"}`}>
          {master.kind} <span className="num">{master.filter}</span>
          {master.kind.includes("dark") && (
            <span className="num"> {seconds(master.exposure_s)}</span>
          )}
          <span className="num text-quiet">
            {master.temperature_c !== null && master.kind !== "flat"
              ? ` ${fixed(master.temperature_c, 0, "°C")}`
              : ""}
          </span>
        </span>
        <span className="num ml-auto whitespace-nowrap text-quiet">
          {!master.used && "not used · "}
          {dayOf(master.night)} · {master.count}
        </span>
      </button>
      {on && (
        <dl className="pb-1.5 pl-2">
          <Fact name="frames combined">{master.count}</Fact>
          <Fact name="level">{fixed(master.level_adu, 0, "ADU")}</Fact>
          <Fact name="clipped">{fixed(100 * master.clipped_share, 2, "%")}</Fact>
          {master.made_with.length > 0 && (
            <Fact name="went through">{master.made_with.join(", ")}</Fact>
          )}
          {like.map((other) => (
            <Button
              key={other.id}
              className="mt-1 mr-1.5"
              aria-pressed={beside === other.id}
              onClick={() => set({ beside: beside === other.id ? null : other.id })}
            >
              {beside === other.id ? "Alone again" : `Beside ${other.label}`}
            </Button>
          ))}
        </dl>
      )}
    </div>
  );
}
