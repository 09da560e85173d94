import { useEffect, type RefObject } from "react";
import type { Exposure } from "../api/types";
import { useApp } from "../state";
import type { Painter } from "./painter";

const STEPS = [1, -1, 2, 3];
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
  useEffect(() => {
    const p = painter.current;
    if (!p || !exposure || master !== null) return;
    const lane = exposures.filter((e) => filter === "" || e.filter === exposure.filter);
    const at = lane.indexOf(exposure);
    const timer = setTimeout(() => {
      for (const next of STEPS.map((step) => lane[at + step])) {
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
    }, AFTER_MS);
    return () => clearTimeout(timer);
  }, [painter, exposure, exposures, master, off, filter]);
}
