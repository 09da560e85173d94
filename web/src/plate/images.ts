import { bytes, get, ProblemError } from "../api/client";
import type { ImageInfo } from "../api/types";
import type { Look } from "../state";
import { colourTable, paint, type Range } from "./stretch";

/** What is shown: an exposure with some stations of its chain off, or a master. */
export interface Shown {
  kind: "files" | "masters";
  id: number;
  off: string;
  /** Another word whenever the pixels are others. */
  version: string;
}

interface Tile {
  words: Uint16Array;
  width: number;
  height: number;
  canvas: HTMLCanvasElement;
  pixels: ImageData;
  painted: string;
}

const KEPT_IMAGES = 16;
const AGAIN_MS = 4000;
const RAW = "overscan,offset,flat,repair";

export const rawOf = (shown: Shown): Shown => ({ ...shown, off: RAW });
const queryOf = ({ off, version }: Shown) => `off=${off}&version=${encodeURIComponent(version)}`;
const keyOf = (shown: Shown) => `${shown.kind}/${shown.id}?${queryOf(shown)}`;
const passes = (error: unknown) =>
  error instanceof ProblemError && (error.status === 0 || error.status === 503);

/** One image of the server: facts, and tiles level by level as they are needed. */
export class Plane {
  info: ImageInfo | null = null;
  error = "";
  private failed = 0;
  private readonly tiles = new Map<string, Tile>();
  private readonly coming = new Map<string, Promise<void>>();
  private table: Uint32Array | null = null;
  private tableKey = "";
  readonly ready: Promise<void>;

  constructor(
    readonly shown: Shown,
    private readonly changed: (plane: Plane) => void,
    level?: number,
  ) {
    this.ready = this.begin(level)
      .catch((error: unknown) => this.fail(error))
      .then(() => changed(this));
  }

  private async begin(level?: number): Promise<void> {
    if (level !== undefined) await this.fetch(level, 0, 0, true);
    if (this.info) return;
    // An image of another size may lack that level.
    this.error = "";
    this.info = await get<ImageInfo>(`/api/images/${keyOf(this.shown)}`);
  }

  private fail(error: unknown): void {
    this.error = error instanceof Error ? error.message : String(error);
    this.failed = performance.now();
  }

  /** Failed, and long enough ago to be worth asking for again. */
  get stale(): boolean {
    return this.error !== "" && performance.now() - this.failed > AGAIN_MS;
  }

  /** The level that gives at least one pixel of the screen for each of its own. */
  levelFor(screenPerPixel: number): number {
    if (!this.info) return 0;
    const level = Math.floor(Math.log2(Math.max(1 / screenPerPixel, 1)) + 0.15);
    return Math.min(level, this.info.levels - 1);
  }

  async load(level: number): Promise<void> {
    await this.ready;
    if (!this.info) return;
    const [columns, rows] = this.grid(level);
    const all: Promise<void>[] = [];
    for (let row = 0; row < rows; row++)
      for (let column = 0; column < columns; column++) all.push(this.fetch(level, column, row));
    await Promise.all(all);
  }

  private grid(level: number): [number, number] {
    const { width, height, tile } = this.info!;
    return [
      Math.ceil(Math.max(width >> level, 1) / tile),
      Math.ceil(Math.max(height >> level, 1) / tile),
    ];
  }

  private fetch(level: number, column: number, row: number, facts = false): Promise<void> {
    const key = `${level}/${column}/${row}`;
    const known = this.coming.get(key);
    if (known) return known;
    const { kind, id } = this.shown;
    const query = queryOf(this.shown) + (facts ? "&facts=1" : "");
    const work = bytes(`/api/images/${kind}/${id}/${key}?${query}`)
      .then(async (response) => {
        const told = response.headers.get("X-Image");
        if (told) this.info = JSON.parse(told) as ImageInfo;
        const width = Number(response.headers.get("X-Tile-Width"));
        const height = Number(response.headers.get("X-Tile-Height"));
        const words = new Uint16Array(await response.arrayBuffer());
        const canvas = document.createElement("canvas");
        canvas.width = width;
        canvas.height = height;
        const pixels = new ImageData(width, height);
        this.tiles.set(key, { words, width, height, canvas, pixels, painted: "" });
        this.changed(this);
      })
      .catch((error: unknown) => {
        // While the server is away it is asked again with the next drawing; else that would not help.
        if (passes(error)) this.coming.delete(key);
        else {
          this.fail(error);
          this.changed(this);
        }
      });
    this.coming.set(key, work);
    return work;
  }

  /** Whether a whole level is here. */
  has(level: number): boolean {
    if (!this.info) return false;
    const [columns, rows] = this.grid(level);
    for (let row = 0; row < rows; row++)
      for (let column = 0; column < columns; column++)
        if (!this.tiles.has(`${level}/${column}/${row}`)) return false;
    return true;
  }

  /** Draw a level in the image's own pixels, edges at whole numbers. */
  draw(ctx: CanvasRenderingContext2D, level: number, range: Range, look: Look): void {
    if (!this.info) return;
    const [columns, rows] = this.grid(level);
    const size = 1 << level;
    const step = this.info.tile * size;
    const table = this.tableFor(range, look);
    for (let row = 0; row < rows; row++)
      for (let column = 0; column < columns; column++) {
        const tile = this.tiles.get(`${level}/${column}/${row}`);
        if (!tile) continue;
        if (tile.painted !== this.tableKey) {
          paint(tile.words, table, new Uint32Array(tile.pixels.data.buffer));
          tile.canvas.getContext("2d")!.putImageData(tile.pixels, 0, 0);
          tile.painted = this.tableKey;
        }
        ctx.drawImage(
          tile.canvas,
          column * step,
          row * step,
          tile.width * size,
          tile.height * size,
        );
      }
  }

  private tableFor(range: Range, look: Look): Uint32Array {
    const key = `${range.low} ${range.high} ${look}`;
    if (key !== this.tableKey || !this.table) {
      const { offset, scale } = this.info!;
      this.table = colourTable(offset, scale, range, look, this.table ?? undefined);
      this.tableKey = key;
    }
    return this.table;
  }

  /** The value of a pixel in ADU; null where it is not here (it is fetched then) or has none. */
  value(x: number, y: number): number | null {
    if (!this.info) return null;
    const { tile, width, height, offset, scale } = this.info;
    if (x < 0 || y < 0 || x >= width || y >= height) return null;
    const [column, row] = [Math.floor(x / tile), Math.floor(y / tile)];
    const found = this.tiles.get(`0/${column}/${row}`);
    if (!found) {
      void this.fetch(0, column, row);
      return null;
    }
    const word = found.words[(y - row * tile) * found.width + (x - column * tile)]!;
    return word ? offset + (word - 1) * scale : null;
  }
}

/** The images that were shown last, and those that come next. */
export class Images {
  private readonly planes = new Map<string, Plane>();

  constructor(private readonly changed: (plane: Plane) => void) {}

  /**
   * An image; where it is known to be as large as the one before, with the first tile of a level,
   * which then brings the facts along.
   */
  of(shown: Shown, level?: number): Plane {
    const key = keyOf(shown);
    let plane = this.planes.get(key);
    if (plane && !plane.stale) {
      this.planes.delete(key);
    } else {
      plane = new Plane(shown, this.changed, level);
    }
    this.planes.set(key, plane);
    for (const old of this.planes.keys()) {
      if (this.planes.size <= KEPT_IMAGES) break;
      this.planes.delete(old);
    }
    return plane;
  }
}
