import { bytes } from "../api/client";
import type { Exposure } from "../api/types";
import { colourTable, paint } from "../plate/stretch";
import { apply, invert, type Affine } from "../plate/view";
import type { Look } from "../state";

const HALF = 16;
const SIDE = 2 * HALF + 1;
const [LOW, HIGH] = [-2.5, 45];
const MOST_KEPT = 1200;
const AT_ONCE = 6;

export interface Cutout {
  words: Uint16Array;
  offset: number;
  scale: number;
  sky: number;
  noise: number;
}

/** Cut-outs by exposure, star and version; asked for a few at a time. */
export class Cutouts {
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

/** Where the cut-out of a star comes from, or of a place on the plane; null where none is known. */
export function urlOf(e: Exposure, star: number | null, x: number, y: number): string | null {
  const version = `version=${encodeURIComponent(e.version)}&half=${HALF}`;
  if (e.placed && star !== null) return `/api/files/${e.id}/cutout?star=${star}&${version}`;
  const place = e.plane ? apply(invert(e.plane as unknown as Affine), { x, y }) : null;
  if (!place && star !== null) return null;
  const at = place ?? { x: (e.width - 1) / 2, y: (e.height - 1) / 2 };
  return `/api/files/${e.id}/cutout?x=${at.x.toFixed(1)}&y=${at.y.toFixed(1)}&${version}`;
}

const scratch = typeof document === "undefined" ? null : document.createElement("canvas");

export function drawCutout(
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
