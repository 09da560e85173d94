import { useEffect, useRef, type RefObject } from "react";
import type { Exposure } from "../api/types";
import { useApp } from "../state";
import type { Plane } from "./images";
import type { Painter } from "./painter";

/** Those that come next on the way that the beam goes, and the one that it came from. */
const AHEAD = [1, 2, 3, 4, 5, -1];
const AFTER_MS = 15;
/** So many at once: what is needed first is not to share the server with what comes after it. */
const AT_ONCE = 1;

/** Fetch one after the other, the first ones first; stopped by the answer. */
export function inTurn(waiting: (() => Promise<unknown>)[], atOnce = AT_ONCE): () => void {
  const left = [...waiting];
  const next = async (): Promise<void> => {
    for (let one = left.shift(); one; one = left.shift()) await one();
  };
  for (let n = 0; n < atOnce; n++) void next();
  return () => left.splice(0);
}

async function whole(p: Painter, exposure: Exposure, plane: Plane): Promise<void> {
  await plane.ready;
  const affine = p.planeOf(exposure, plane);
  const zoom = (p.view?.zoom ?? 1) * Math.hypot(affine[0], affine[3]);
  await plane.load(plane.levelFor(zoom * (window.devicePixelRatio || 1)));
}

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
    const shown = { kind: "files" as const, off: off.join(",") };
    const fetch = () =>
      inTurn(
        [0, ...AHEAD]
          .map((n) => lane[at + (step < 0 ? -n : n)])
          .filter((e) => e !== undefined)
          .map(
            (e) => () =>
              whole(p, e, p.images.of({ ...shown, id: e.id, version: e.version }, p.level)),
          ),
      );
    // Keys that come as fast as pictures are drawn leave no pause; a beam that is dragged passes by.
    if (Math.abs(step) === 1) return fetch();
    let stop = () => {};
    const timer = setTimeout(() => (stop = fetch()), AFTER_MS);
    return () => {
      clearTimeout(timer);
      stop();
    };
  }, [painter, exposure, exposures, master, off, filter]);
}
