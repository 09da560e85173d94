import type { Master } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Fact } from "../../ui/parts";
import { dayOf, fixed, seconds } from "../../ui/words";
import { Verdict } from "./Verdict";

/** A master, what went into it, and what can be held against it. */
export function MasterRow({ master, all }: { master: Master; all: readonly Master[] }) {
  const shown = useApp((s) => s.master);
  const beside = useApp((s) => s.beside);
  const ratio = useApp((s) => s.ratio);
  const set = useApp((s) => s.set);
  const on = shown === master.id;
  const like = all.filter(
    (m) => m.id !== master.id && m.kind === master.kind && m.filter === master.filter,
  );
  const other = like.find((m) => m.id === beside);
  return (
    <div className="border-t border-line first:border-t-0">
      <button
        className={`flex w-full py-1 text-left ${on ? "text-beam" : "hover:text-beam"}`}
        aria-pressed={on}
        onClick={() => set({ master: on ? null : master.id, beside: null, ratio: false })}
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
          {like.map((one) => (
            <span key={one.id} className="mt-1 flex flex-wrap gap-1.5">
              <Button
                aria-pressed={beside === one.id && !ratio}
                onClick={() =>
                  set({ beside: beside === one.id && !ratio ? null : one.id, ratio: false })
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
                    set({ beside: now ? null : one.id, ratio: !now });
                  }}
                >
                  {beside === one.id && ratio ? "Not divided" : "Divided by it"}
                </Button>
              )}
            </span>
          ))}
          {master.kind === "flat" && other && <Verdict master={master} other={other} />}
        </dl>
      )}
    </div>
  );
}
