import { useEffect, useMemo, useRef, useState } from "react";
import { useCampaign, useCatalogue } from "../api/queries";
import type { Exposure } from "../api/types";
import { INSET_LEFT, INSET_RIGHT, toPixel, useAxis } from "../rail/axis";
import { useApp } from "../state";
import { contextOf, useSize } from "../ui/canvas";
import { colour } from "../ui/words";
import { Cutouts, drawCutout, urlOf } from "./cutouts";
import { frameSize, framesOf } from "./frames";

const [SMALLEST, LARGEST] = [26, 62];

/** One star on every exposure, on the rail's axis: the target, or the star that is chosen. */
export function Film() {
  const s = useApp();
  const axis = useAxis();
  const { data: campaign } = useCampaign(s.campaign);
  const { data: catalogue } = useCatalogue(s.campaign);
  const [box, size] = useSize<HTMLDivElement>();
  const canvas = useRef<HTMLCanvasElement>(null);
  const [turn, setTurn] = useState(0);
  const [cutouts] = useState(() => new Cutouts(() => setTurn((n) => n + 1)));
  const row = s.star ?? campaign?.cast?.target ?? null;
  const i = row === null ? -1 : (catalogue?.row.indexOf(row) ?? -1);
  const east = i >= 0 ? catalogue!.east_arcsec[i]! : 0;
  const north = i >= 0 ? catalogue!.north_arcsec[i]! : 0;
  const name = i >= 0 ? catalogue!.name[i]! : "the middle";

  const frames = useMemo(() => {
    const lane = axis.exposures.filter((e) => !s.filter || e.filter === s.filter);
    const at = (e: Exposure) => toPixel(axis.domain, axis.hours.get(e.id) ?? 0, size.width);
    const [left, right] = [INSET_LEFT, size.width - INSET_RIGHT];
    const shown = lane.filter((e) => at(e) >= left && at(e) <= right).length;
    const px = frameSize(shown, right - left, SMALLEST, LARGEST);
    return { px, list: size.width ? framesOf(lane, at, px, left, right, s.beam) : [] };
  }, [axis, s.filter, s.beam, size]);

  useEffect(() => {
    if (!canvas.current || !size.width) return;
    const ctx = contextOf(canvas.current, size);
    ctx.clearRect(0, 0, size.width, size.height);
    cutouts.forget();
    for (const { exposure, left } of frames.list) {
      const top = (size.height - frames.px) / 2;
      const url = urlOf(exposure, i >= 0 ? row : null, east, north);
      const cutout = url && cutouts.of(`${row} ${url}`, url);
      const aside = exposure.aside_by || exposure.trouble;
      ctx.globalAlpha = aside ? 0.35 : 1;
      if (cutout) drawCutout(ctx, cutout, left + 1, top, frames.px - 2, s.look);
      ctx.globalAlpha = 1;
      ctx.strokeStyle = colour(
        exposure.id === s.beam ? "--beam" : exposure.proposal ? "--beam" : "--line",
      );
      ctx.setLineDash(aside ? [2, 2] : exposure.id !== s.beam && exposure.proposal ? [4, 3] : []);
      ctx.lineWidth = exposure.id === s.beam ? 2 : 1;
      ctx.strokeRect(left + 1, top, frames.px - 2, frames.px - 2);
      ctx.setLineDash([]);
    }
  }, [frames, cutouts, turn, size, s.look, s.beam, row, i, east, north]);

  return (
    <section className="contents" aria-label="film">
      <div className="flex flex-col border-t border-line bg-panel px-1.5 py-1.5 text-small">
        <span className="text-quiet">film of</span>
        <span className="line-clamp-2" title={name}>
          {name}
        </span>
      </div>
      <div
        ref={box}
        data-testid="film"
        className="relative border-t border-line bg-black"
        onPointerDown={(event) => {
          const x = event.clientX - event.currentTarget.getBoundingClientRect().left;
          const frame = frames.list.find((f) => x >= f.left && x < f.left + frames.px);
          if (frame) s.set({ beam: frame.exposure.id, master: null });
        }}
      >
        <canvas ref={canvas} className="absolute inset-0 h-full w-full" />
      </div>
      <div className="flex flex-col border-t border-l border-line bg-panel py-1.5 pr-3 pl-[30px] text-small text-quiet">
        {!s.benchFolded && (
          <>
            <span>
              {frames.list.length} of {axis.exposures.length} shown; zoom the rail for more
            </span>
            <button className="min-h-6 text-left text-beam" onClick={() => s.set({ film: false })}>
              Fold it (J)
            </button>
          </>
        )}
      </div>
    </section>
  );
}
