import { useEffect, useRef, useState } from "react";
import { useCatalogue, useExposures } from "../api/queries";
import { useApp } from "../state";
import { Cutouts, drawCutout, urlOf } from "./cutouts";

const SIDE_PX = 72;

/** The frame of the film of a star on one exposure: what its point was measured on. */
export function Frame({ exposure, star }: { exposure: number; star: string }) {
  const campaign = useApp((s) => s.campaign);
  const look = useApp((s) => s.look);
  const { data } = useExposures(campaign);
  const { data: catalogue } = useCatalogue(campaign);
  const canvas = useRef<HTMLCanvasElement>(null);
  const [turn, setTurn] = useState(0);
  const [cutouts] = useState(() => new Cutouts(() => setTurn((n) => n + 1)));
  const e = data?.exposures.find((one) => one.id === exposure);
  const at = catalogue?.name.indexOf(star) ?? -1;
  useEffect(() => {
    const ctx = canvas.current?.getContext("2d");
    if (!ctx || !e || at < 0) return;
    const row = catalogue!.row[at]!;
    const url = urlOf(e, row, catalogue!.east_arcsec[at]!, catalogue!.north_arcsec[at]!);
    ctx.clearRect(0, 0, 2 * SIDE_PX, 2 * SIDE_PX);
    cutouts.forget();
    const cutout = url && cutouts.of(`${row} ${url}`, url);
    if (cutout) drawCutout(ctx, cutout, 0, 0, 2 * SIDE_PX, look);
  }, [e, at, catalogue, cutouts, turn, look]);
  if (!e || at < 0) return null;
  return (
    <canvas
      ref={canvas}
      width={2 * SIDE_PX}
      height={2 * SIDE_PX}
      style={{ width: SIDE_PX, height: SIDE_PX }}
      className="mt-1 block border border-line bg-black"
    />
  );
}
