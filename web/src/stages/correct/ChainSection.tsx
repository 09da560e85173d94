import type { Chain, Master } from "../../api/types";
import { useCampaign } from "../../api/queries";
import { useApp } from "../../state";
import { SmallPicture } from "../../plate/SmallPicture";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";
import { plural } from "../../ui/words";

const STATIONS: Record<string, string> = {
  overscan: "taken off, row by row",
  offset: "taken off",
  flat: "divided by",
  repair: "repaired",
};

/** A chain's name without the kit, where there is only one. */
export function shortChain(name: string, kits: readonly string[]): string {
  return kits.length === 1 ? name.replace(`, ${kits[0]}`, "") : name;
}

/** How exposures like the one at the beam are corrected, station by station. */
export function ChainSection(props: { chain: Chain; masters: readonly Master[] }) {
  const { chain, masters } = props;
  const off = useApp((s) => s.off);
  const split = useApp((s) => s.split);
  const set = useApp((s) => s.set);
  const { data: campaign } = useCampaign(useApp((s) => s.campaign));
  const kits = campaign?.kits ?? [];
  return (
    <Section title="Chain" aside={plural(chain.exposures, "exposure")}>
      <p className="num mb-2 text-quiet">{shortChain(chain.name, kits)}</p>
      <ol className="relative ml-1 border-l border-line pl-4">
        <li className="pb-2">
          <Dot on />
          raw, as read
        </li>
        {chain.stations.map((station) => (
          <Stop
            key={station.words}
            station={station}
            master={masters.find((m) => m.id === station.master_id)}
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
  master,
  on,
  onSwitch,
}: {
  station: Chain["stations"][number];
  master: Master | undefined;
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
        {master && (
          <span className={`float-right ml-2 border border-line ${on ? "" : "opacity-40"}`}>
            <SmallPicture
              shown={{ kind: "masters", id: master.id, off: "", version: master.version }}
              width={56}
            />
          </span>
        )}
        <span className="text-small text-quiet">
          {STATIONS[station.kind]}
          {!on && " · switched off"}
        </span>
        <span className={`block ${on ? "" : "line-through"}`}>{name}</span>
        {why.length > 0 && <span className="block text-small text-quiet">{why.join(": ")}</span>}
        {master && master.made_with.length > 0 && (
          <span className="block text-small text-quiet">
            itself less {master.made_with.join(", ")}
          </span>
        )}
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
