import { useEffect } from "react";
import { correctFiles } from "../../api/actions";
import type { Master } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Fact } from "../../ui/parts";
import { dayOf, fixed, seconds, shortName } from "../../ui/words";
import { SingleVerdict, Verdict } from "./Verdict";

const SHOWN_BESIDE = 6;

/** Others of its kind and filter, those of the nearest nights first. */
function nearestLike(master: Master, all: readonly Master[]): Master[] {
  const away = (m: Master) => Math.abs(Date.parse(m.night) - Date.parse(master.night)) || 0;
  return all
    .filter((m) => m.id !== master.id && m.kind === master.kind && m.filter === master.filter)
    .sort((a, b) => away(a) - away(b))
    .slice(0, SHOWN_BESIDE);
}

/** A master, what went into it, and what can be held against it. */
export function MasterRow({ master, all }: { master: Master; all: readonly Master[] }) {
  const shown = useApp((s) => s.master);
  const beside = useApp((s) => s.beside);
  const ratio = useApp((s) => s.ratio);
  const set = useApp((s) => s.set);
  const on = shown === master.id;
  const like = on ? nearestLike(master, all) : [];
  const other = like.find((m) => m.id === beside);
  const alone = { beside: null, ratio: false, frame: null };
  return (
    <div className="border-t border-line first:border-t-0">
      <button
        className={`flex w-full py-1 text-left ${on ? "text-beam" : "hover:text-beam"}`}
        aria-pressed={on}
        onClick={() => set({ master: on ? null : master.id, ...alone })}
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
          {master.night ? dayOf(master.night) : "no date"} · {master.count}
        </span>
      </button>
      {on && (
        <div className="pb-1.5 pl-2">
          <dl>
            <Fact name="frames combined">{master.count}</Fact>
            <Fact name="by">{master.combined}</Fact>
            <Fact name="level">{fixed(master.level_adu, 0, "ADU")}</Fact>
            <Fact name="clipped">{fixed(100 * master.clipped_share, 2, "%")}</Fact>
            {master.made_with.length > 0 && (
              <Fact name="went through">{master.made_with.join(", ")}</Fact>
            )}
          </dl>
          {like.map((one) => (
            <span key={one.id} className="mt-1 flex flex-wrap gap-1.5">
              <Button
                aria-pressed={beside === one.id && !ratio}
                onClick={() =>
                  set({ ...alone, beside: beside === one.id && !ratio ? null : one.id })
                }
              >
                {beside === one.id && !ratio ? "Alone again" : `Beside ${one.label}`}
              </Button>
              {master.kind === "flat" && (
                <Button
                  aria-pressed={beside === one.id && ratio}
                  title={`Divide it by ${one.label}: what is left should be noise`}
                  onClick={() => {
                    const now = beside === one.id && ratio;
                    set({ frame: null, beside: now ? null : one.id, ratio: !now });
                  }}
                >
                  {beside === one.id && ratio ? "Not divided" : "Divided by it"}
                </Button>
              )}
            </span>
          ))}
          {master.kind === "flat" && other && <Verdict master={master} other={other} />}
          {master.frames.length > 0 && <Frames master={master} />}
        </div>
      )}
    </div>
  );
}

/** The frames that went in: each can be looked at, divided by the master, or set aside. */
function Frames({ master }: { master: Master }) {
  const frame = useApp((s) => s.frame);
  const ratio = useApp((s) => s.ratio);
  const set = useApp((s) => s.set);
  const flat = master.kind === "flat";
  useEffect(() => () => set({ frame: null }), [set]);
  return (
    <details className="mt-1.5" open={frame !== null}>
      <summary className="cursor-pointer text-quiet hover:text-ink">Its frames</summary>
      <ul className="max-h-48 overflow-y-auto">
        {master.frames.map((one) => {
          const on = frame === one.id;
          return (
            <li key={one.id} className="border-t border-line first:border-t-0">
              <button
                className={`num block w-full truncate py-0.5 text-left ${on ? "text-beam" : "hover:text-beam"}`}
                aria-pressed={on}
                title={one.name}
                onClick={() => set({ frame: on ? null : one.id, beside: null, ratio: flat && !on })}
              >
                {shortName(one.name)}
              </button>
              {on && (
                <div className="pb-1.5">
                  {flat && ratio && <SingleVerdict file={one.id} master={master.id} />}
                  <span className="mt-1 flex flex-wrap gap-1.5">
                    {flat && (
                      <Button aria-pressed={ratio} onClick={() => set({ ratio: !ratio })}>
                        {ratio ? "As taken" : "Over the master"}
                      </Button>
                    )}
                    <Button
                      title="It takes no part from now on; the master is to be built again"
                      onClick={() =>
                        void correctFiles([one.id], { aside: "by the observer, from its master" })
                      }
                    >
                      Set aside
                    </Button>
                  </span>
                </div>
              )}
            </li>
          );
        })}
      </ul>
    </details>
  );
}
