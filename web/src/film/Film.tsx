import { useEffect, useMemo, useRef, useState } from "react";
import { bytes } from "../api/client";
import { useCampaign, useCatalogue } from "../api/queries";
import type { Exposure } from "../api/types";
import { apply, invert, type Affine } from "../plate/view";
import { colourTable, paint } from "../plate/stretch";
import { INSET_LEFT, INSET_RIGHT, toPixel, useAxis } from "../rail/axis";
import { useApp, type Look } from "../state";
import { contextOf, useSize } from "../ui/canvas";
import { colour } from "../ui/words";
import { frameSize, framesOf } from "./frames";

const HALF = 16;
const SIDE = 2 * HALF + 1;
const [LOW, HIGH] = [-2.5, 45];
const [SMALLEST, LARGEST] = [26, 62];
const MOST_KEPT = 1200;
const AT_ONCE = 6;

interface Cutout {
  words: Uint16Array;
  offset: number;
  scale: number;
  sky: number;
  noise: number;
}

/** Cut-outs by exposure, star and version; asked for a few at a time. */
class Cutouts {
  private readonly known = new Map<string, Cutout | null>();
  private waiting: { key: string; url: string }[] = [];
  private running = 0;

  constructor(private readonly changed: () => void) {}

  of(key: string, url: string): Cutout | null {
    const found = this.known.get(key);
    if (found !== undefined) return found;
    if (!this.waiting.some((one) => one.key === key)) this.waiting.push({ key, url });
    this.next();
    return null;
  }

  /** What was asked for before and is not shown any more is not fetched. */
  forget(): void {
    this.waiting = [];
  }

  private next(): void {
    while (this.running < AT_ONCE && this.waiting.length) {
      const { key, url } = this.waiting.shift()!;
      this.running += 1;
      this.known.set(key, null);
      bytes(url)
        .then(async (response) => {
          const number = (name: string) => Number(response.headers.get(name));
          this.known.set(key, {
            words: new Uint16Array(await response.arrayBuffer()),
            offset: number("X-Offset"),
            scale: number("X-Scale"),
            sky: number("X-Sky"),
            noise: number("X-Noise"),
          });
          if (this.known.size > MOST_KEPT) this.known.delete(this.known.keys().next().value!);
          this.changed();
        })
        .catch(() => undefined)
        .finally(() => {
          this.running -= 1;
          this.next();
        });
    }
  }
}

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

/** Where the cut-out of a star comes from, or of a place on the plane; null where none is known. */
function urlOf(e: Exposure, star: number | null, x: number, y: number): string | null {
  const version = `version=${encodeURIComponent(e.version)}&half=${HALF}`;
  if (e.placed && star !== null) return `/api/files/${e.id}/cutout?star=${star}&${version}`;
  const place = e.plane ? apply(invert(e.plane as unknown as Affine), { x, y }) : null;
  if (!place && star !== null) return null;
  const at = place ?? { x: (e.width - 1) / 2, y: (e.height - 1) / 2 };
  return `/api/files/${e.id}/cutout?x=${at.x.toFixed(1)}&y=${at.y.toFixed(1)}&${version}`;
}

const scratch = typeof document === "undefined" ? null : document.createElement("canvas");

function drawCutout(
  ctx: CanvasRenderingContext2D,
  cutout: Cutout,
  left: number,
  top: number,
  px: number,
  look: Look,
): void {
  if (!scratch || cutout.words.length !== SIDE * SIDE) return;
  scratch.width = scratch.height = SIDE;
  const range = {
    low: cutout.sky + LOW * cutout.noise,
    high: cutout.sky + HIGH * cutout.noise,
  };
  const pixels = new ImageData(SIDE, SIDE);
  const table = colourTable(cutout.offset, cutout.scale, range, look);
  paint(cutout.words, table, new Uint32Array(pixels.data.buffer));
  scratch.getContext("2d")!.putImageData(pixels, 0, 0);
  ctx.imageSmoothingEnabled = false;
  // Rows of an image run upwards.
  ctx.save();
  ctx.translate(left, top + px);
  ctx.scale(1, -1);
  ctx.drawImage(scratch, 0, 0, px, px);
  ctx.restore();
}
