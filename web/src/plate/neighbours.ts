import { useEffect, useRef, type RefObject } from "react";
import type { Exposure } from "../api/types";
import { useApp } from "../state";
import type { Painter } from "./painter";

/** Those that come next on the way that the beam goes, and the one that it came from. */
const AHEAD = [1, 2, 3, 4, 5, -1];
const AFTER_MS = 15;

/** Neighbours in time are fetched before they are asked for. */
export function useNeighbours(
  painter: RefObject<Painter | null>,
  exposure: Exposure | null,
  exposures: readonly Exposure[],
): void {
  const filter = useApp((s) => s.filter);
  const master = useApp((s) => s.master);
  const off = useApp((s) => s.off);
  const last = useRef(-1);
  useEffect(() => {
    const p = painter.current;
    if (!p || !exposure || master !== null) return;
    const lane = exposures.filter((e) => filter === "" || e.filter === exposure.filter);
    const at = lane.indexOf(exposure);
    const step = at - last.current;
    last.current = at;
    const fetch = () => {
      for (const next of AHEAD.map((n) => lane[at + (step < 0 ? -n : n)])) {
        if (!next) continue;
        const plane = p.images.of({
          kind: "files",
          id: next.id,
          off: off.join(","),
          version: next.version,
        });
        void plane.ready.then(() => {
          const affine = p.planeOf(next, plane);
          const zoom = (p.view?.zoom ?? 1) * Math.hypot(affine[0], affine[3]);
          void plane.load(plane.levelFor(zoom * (window.devicePixelRatio || 1)));
        });
      }
    };
    // Keys that come as fast as pictures are drawn leave no pause; a beam that is dragged passes by.
    if (Math.abs(step) === 1) return fetch();
    const timer = setTimeout(fetch, AFTER_MS);
    return () => clearTimeout(timer);
  }, [painter, exposure, exposures, master, off, filter]);
}
