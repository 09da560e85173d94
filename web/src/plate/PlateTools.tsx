import type { ReactNode } from "react";
import type { Exposure } from "../api/types";
import { useApp } from "../state";
import { shortName } from "../ui/words";
import { Find } from "./Find";
import { isCombined } from "./scene";
import type { Scene } from "./painter";

/** What is shown, and how: top of the plate. */
export function PlateTools({
  scene,
  exposure,
  divider,
  width,
}: {
  scene: Scene;
  exposure: Exposure | null;
  divider: number;
  width: number;
}) {
  const s = useApp();
  const title = s.master !== null ? scene.names[0] : exposure ? shortName(exposure.name) : "";
  const stations = s.rawHeld
    ? "raw"
    : s.residual && s.hot !== null && s.master === null
      ? `what a repair beyond ${s.hot} σ takes away`
      : s.off.length
        ? `without ${s.off.map((key) => ({ offset: "dark or bias", flat: "flat", repair: "repair" })[key]).join(", ")}`
        : "";
  return (
    <>
      <div className="pointer-events-none absolute top-2 left-2 flex items-center gap-2">
        <span className="num rounded-[3px] bg-ground/95 px-1.5 py-0.5">
          {title}
          {stations && <span className="text-beam"> · {stations}</span>}
          {exposure && !exposure.placed && s.master === null && (
            <span className="text-quiet"> · not placed</span>
          )}
        </span>
      </div>
      <div className="absolute top-2 right-2 flex gap-1 rounded-[3px] bg-ground/95 px-1">
        <Toggle on={s.northUp} onClick={() => s.set({ northUp: !s.northUp })} title="or as taken">
          north up
        </Toggle>
        <Toggle on={s.overlay} onClick={() => s.set({ overlay: !s.overlay })} title="catalogue">
          overlay
        </Toggle>
        {s.master === null && exposure?.placed && (
          <>
            <Toggle
              on={s.grid}
              onClick={() => s.set({ grid: !s.grid })}
              title="positions, north, length (I)"
            >
              grid
            </Toggle>
            <Toggle
              on={s.finding}
              onClick={() => s.set({ finding: !s.finding })}
              title="a star or a position (/)"
            >
              find
            </Toggle>
          </>
        )}
        {s.master === null ? (
          <>
            <Toggle
              on={s.split === "raw"}
              onClick={() => s.set({ split: s.split === "raw" ? "none" : "raw" })}
              title="corrected beside raw; drag the line. Hold C for raw alone"
            >
              split raw
            </Toggle>
            {exposure && isCombined(exposure) && (
              <Toggle
                on={s.split === "rejected"}
                onClick={() => s.set({ split: s.split === "rejected" ? "none" : "rejected" })}
                title="beside how many values were left out at each pixel"
              >
                left out
              </Toggle>
            )}
            <Toggle
              on={s.split === "first"}
              onClick={() => s.set({ split: s.split === "first" ? "none" : "first" })}
              title="beside the first exposure in this filter"
            >
              split first
            </Toggle>
          </>
        ) : (
          <Toggle
            on={false}
            onClick={() => s.set({ master: null, beside: null, ratio: false, frame: null })}
            title="the exposure under the beam"
          >
            back to the exposure
          </Toggle>
        )}
        <Toggle on={false} onClick={() => window.dispatchEvent(new Event("beacon-fit"))} title="F">
          fit
        </Toggle>
        <Toggle
          on={false}
          onClick={() => window.dispatchEvent(new Event("beacon-one"))}
          title="a pixel of the screen for each of the image (1:1 is also the key =)"
        >
          1:1
        </Toggle>
      </div>
      {s.finding && exposure?.placed && <Find />}
      {scene.compare && (
        <div
          className="pointer-events-none absolute inset-y-0 border-l border-beam"
          style={{ left: width * divider }}
        >
          <span className="num absolute bottom-2 right-1.5 rounded-[3px] bg-ground/95 px-1.5 whitespace-nowrap">
            {scene.names[0]}
          </span>
          <span className="num absolute bottom-2 left-1.5 rounded-[3px] bg-ground/95 px-1.5 whitespace-nowrap">
            {scene.names[1]}
          </span>
        </div>
      )}
    </>
  );
}

function Toggle({
  on,
  children,
  ...rest
}: {
  on: boolean;
  children: ReactNode;
  onClick: () => void;
  title: string;
}) {
  return (
    <button
      aria-pressed={on}
      className={`px-1.5 py-0.5 text-small ${on ? "text-beam" : "text-quiet hover:text-ink"}`}
      {...rest}
    >
      {children}
    </button>
  );
}
