import { startJob } from "../api/actions";
import { useCampaign, useCorrect, useExposures } from "../api/queries";
import type { Chain, Master } from "../api/types";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { Fact, Section } from "../ui/parts";
import { dayOf, fixed, plural, seconds } from "../ui/words";

const STATIONS: Record<string, string> = {
  offset: "taken off",
  flat: "divided by",
  repair: "repaired",
};

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
      {chain && <ChainSection chain={chain} />}
      {data.remarks.length > 0 && (
        <Section title="Flats that differ">
          {data.remarks.map((words) => (
            <p key={words} className="mb-1 border-l-2 border-beam pl-2">
              {words}.
            </p>
          ))}
        </Section>
      )}
      <Section title="Masters" aside={String(data.masters.length)}>
        {data.masters.map((master) => (
          <MasterRow key={master.id} master={master} />
        ))}
        <div className="mt-2 flex gap-2">
          <Button onClick={() => void startJob("masters")}>Build them again</Button>
          {stage.state !== "todo" && (
            <Button main onClick={() => useApp.setState({ stage: "place" })}>
              Next: Place
            </Button>
          )}
        </div>
      </Section>
    </>
  );
}

function ChainSection({ chain }: { chain: Chain }) {
  const off = useApp((s) => s.off);
  const split = useApp((s) => s.split);
  const set = useApp((s) => s.set);
  return (
    <Section title="Chain" aside={plural(chain.exposures, "exposure")}>
      <p className="num mb-2 text-quiet">{chain.name}</p>
      <ol className="relative ml-1 border-l border-line pl-4">
        <li className="pb-2">
          <Dot on />
          raw, as read
        </li>
        {chain.stations.map((station) => (
          <Stop
            key={station.words}
            station={station}
            on={!off.includes(station.kind)}
            onSwitch={(on) =>
              set({
                off: on ? off.filter((kind) => kind !== station.kind) : [...off, station.kind],
              })
            }
          />
        ))}
        <li>
          <Dot on />
          corrected
        </li>
      </ol>
      {chain.missing.map((words) => (
        <p key={words} className="mt-1 text-small text-beam">
          {words}
        </p>
      ))}
      <div className="mt-2 flex gap-2">
        <Button onClick={() => set({ split: split === "raw" ? "none" : "raw", master: null })}>
          {split === "raw" ? "Whole plate" : "Beside raw"}
        </Button>
        {off.length > 0 && <Button onClick={() => set({ off: [] })}>All stations on</Button>}
      </div>
    </Section>
  );
}

/** A station of the chain; its dot on the line switches it off and on. */
function Stop({
  station,
  on,
  onSwitch,
}: {
  station: Chain["stations"][number];
  on: boolean;
  onSwitch: (on: boolean) => void;
}) {
  const [what, ...why] = station.words.split(": ");
  const name = station.master || what || "";
  return (
    <li className="pb-2">
      <label
        className={`relative block cursor-pointer hover:text-beam ${on ? "" : "text-quiet"}`}
        title={on ? "Switch off, to see what it does" : "Switch on again"}
      >
        <input
          type="checkbox"
          className="peer sr-only"
          aria-label={`${STATIONS[station.kind]} ${name}`}
          checked={on}
          onChange={() => onSwitch(!on)}
        />
        <Dot on={on} />
        <span className="text-small text-quiet">
          {STATIONS[station.kind]}
          {!on && " · switched off"}
        </span>
        <span className={`block ${on ? "" : "line-through"}`}>{name}</span>
        {why.length > 0 && <span className="block text-small text-quiet">{why.join(": ")}</span>}
        {station.master && what?.includes("scaled") && (
          <span className="block text-small text-quiet">{what}</span>
        )}
        {station.remarks.map((words) => (
          <span key={words} className="block text-small text-beam">
            {words}
          </span>
        ))}
      </label>
    </li>
  );
}

function Dot({ on }: { on: boolean }) {
  return (
    <span
      aria-hidden
      className={`absolute mt-1 -ml-[21px] h-2.5 w-2.5 rounded-full border outline-offset-2 outline-beam peer-focus-visible:outline-2 ${
        on ? "border-beam bg-beam" : "border-quiet bg-panel"
      }`}
    />
  );
}

function MasterRow({ master }: { master: Master }) {
  const shown = useApp((s) => s.master);
  const set = useApp((s) => s.set);
  const on = shown === master.id;
  return (
    <div className="border-t border-line first:border-t-0">
      <button
        className={`flex w-full py-1 text-left ${on ? "text-beam" : "hover:text-beam"}`}
        aria-pressed={on}
        onClick={() => set({ master: on ? null : master.id })}
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
        </dl>
      )}
    </div>
  );
}
