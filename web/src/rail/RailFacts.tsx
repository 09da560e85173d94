import { setAside } from "../api/actions";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { clockUtc, dayOf, fixed, plural, seconds, shortName } from "../ui/words";
import type { Axis } from "./axis";

/**
 * Right of the rail: the exposure under the beam, or the stretch that was selected.
 * With the bench folded there is no room: a stretch's actions then stand above the rail's end.
 */
export function RailFacts({ axis, beam }: { axis: Axis; beam: number | null }) {
  const selection = useApp((s) => s.selection);
  const playing = useApp((s) => s.playing);
  const folded = useApp((s) => s.benchFolded);
  const set = useApp((s) => s.set);
  const e = axis.exposures.find((one) => one.id === beam);
  if (selection.length > 1) {
    const chosen = new Set(selection);
    const aside = axis.exposures.filter((one) => one.aside_by && chosen.has(one.id));
    return (
      <div
        className={`flex flex-col gap-1.5 border-t border-l border-line bg-panel py-2 pr-3 pl-[30px] ${
          folded ? "absolute right-[25px] bottom-[116px] z-10 w-72" : ""
        }`}
      >
        <strong className="font-semibold">{plural(selection.length, "exposure")} selected</strong>
        <div className="flex flex-wrap gap-1.5">
          <Button onClick={() => void setAside(selection, true)}>Set aside</Button>
          {aside.length > 0 && (
            <Button onClick={() => void setAside(selection, false)}>Restore {aside.length}</Button>
          )}
          <Button onClick={() => set({ playing: true, beam: selection[0] ?? beam })}>Play</Button>
          <Button quiet onClick={() => set({ selection: [] })}>
            Let go
          </Button>
        </div>
      </div>
    );
  }
  if (folded) return <div className="border-t border-l border-line bg-panel" />;
  return (
    <div className="flex min-w-0 flex-col border-t border-l border-line bg-panel py-1.5 pr-3 pl-[30px]">
      {e && (
        <>
          <div className="flex items-baseline gap-2">
            <strong className="min-w-0 truncate font-semibold" title={e.name}>
              {shortName(e.name)}
            </strong>
            <button
              className="ml-auto shrink-0 text-quiet hover:text-ink"
              onClick={() => set({ sheet: "origin" })}
              title="File, masters, solution and stars behind its point (O)"
            >
              origin
            </button>
            <button
              className="shrink-0 text-quiet hover:text-ink"
              onClick={() => set({ playing: !playing })}
              title="Space"
            >
              {playing ? "stop" : "play"}
            </button>
          </div>
          <p className="num text-quiet">
            {dayOf(e.mid_utc)} {clockUtc(e.mid_utc)} UT · {e.filter} · {seconds(e.exposure_s)}
          </p>
          <p className="num text-quiet">
            width {fixed(e.fwhm_px, 1, "px")} · sky {fixed(e.sky_adu_per_px, 0)} · X{" "}
            {fixed(e.airmass, 2)}
          </p>
          <Standing e={e} />
        </>
      )}
    </div>
  );
}

function Standing({ e }: { e: Axis["exposures"][number] }) {
  if (e.trouble)
    return (
      <p className="line-clamp-2 text-small text-trouble" title={e.trouble}>
        {e.trouble}
      </p>
    );
  if (e.aside_by)
    return (
      <p className="flex gap-2 text-small text-trouble">
        <span className="line-clamp-2" title={e.aside}>
          Set aside: {e.aside}
        </span>
        <button className="ml-auto shrink-0 text-beam" onClick={() => void setAside([e.id], false)}>
          Restore
        </button>
      </p>
    );
  if (e.proposal)
    return (
      <p className="line-clamp-2 text-small text-beam" title={e.proposal}>
        Proposed to set aside: {e.proposal}
      </p>
    );
  return (
    <p className="text-small text-quiet">
      {e.measured ? "measured" : e.placed ? "placed, not measured yet" : "not placed yet"}
    </p>
  );
}
