import type { Exposure } from "../api/types";
import type { Look } from "../state";
import { colour } from "../ui/words";
import { drawSkyFrame, type Touch } from "./frame";
import { Images, rawOf, type Plane, type Shown } from "./images";
import { drawOverlay, type Overlay } from "./overlay";
import type { Range } from "./stretch";
import {
  apply,
  compose,
  fit,
  invert,
  scaleOf,
  screenOf,
  turnOf,
  unplaced,
  type Affine,
  type Point,
  type View,
} from "./view";

/** Brightness in units of each image's own noise, so that every sky looks alike. */
export interface Stretch {
  low: number;
  high: number;
  /** Held: the same ADU for every image. */
  held: Range | null;
}

export const DEFAULT_STRETCH: Stretch = { low: -2.5, high: 55, held: null };
/** Masters have no stars: what matters lies about the middle. */
export const MASTER_STRETCH: Stretch = { low: -4, high: 4, held: null };

export interface Scene {
  shown: Shown | null;
  exposure: Exposure | null;
  compare: Shown | null;
  compareExposure: Exposure | null;
  rawHeld: boolean;
  reference: Exposure | null;
  northUp: boolean;
  look: Look;
  stretch: Stretch;
  overlay: Overlay;
  divider: number;
  /** Where the plane touches the sky, while the grid of positions is shown. */
  touch: Touch | null;
  /** Of what is shown and of what stands beside it. */
  names: [string, string];
}

/** Paints the plate; keeps the view while exposures change under it. */
export class Painter {
  readonly images: Images;
  view: View | null = null;
  fitted = true;
  scene: Scene | null = null;
  private frame = 0;
  /** That the last image was drawn at. */
  level: number | undefined;
  /** What is drawn: what comes for later is no reason to draw again. */
  private onShow: (Plane | null)[] = [];
  private readonly ctx: CanvasRenderingContext2D;
  private size = { width: 1, height: 1 };
  private awaited: { key: string; since: number } | null = null;
  onDrawn: (plane: Plane | null) => void = () => {};

  constructor(private readonly canvas: HTMLCanvasElement) {
    this.ctx = canvas.getContext("2d", { alpha: false })!;
    this.images = new Images((plane) => {
      if (this.onShow.includes(plane)) this.schedule();
    });
  }

  resize(width: number, height: number): void {
    const ratio = window.devicePixelRatio || 1;
    this.size = { width, height };
    this.canvas.width = Math.round(width * ratio);
    this.canvas.height = Math.round(height * ratio);
    this.ctx.setTransform(ratio, 0, 0, ratio, 0, 0);
    if (this.fitted) this.view = null;
    this.draw();
  }

  show(scene: Scene): void {
    const before = this.scene?.shown;
    if (scene.shown && (before?.id !== scene.shown.id || before?.kind !== scene.shown.kind)) {
      this.awaited = { key: `${scene.shown.kind}${scene.shown.id}`, since: performance.now() };
      if (before && before.kind !== scene.shown.kind) this.view = null;
    }
    if (this.scene && this.scene.northUp !== scene.northUp) this.view = null;
    this.scene = scene;
    this.draw();
  }

  schedule(): void {
    if (!this.frame)
      this.frame = requestAnimationFrame(() => {
        this.frame = 0;
        this.draw();
      });
  }

  /** Show so many pixels of the exposure about a place on the sky. */
  lookAt(east: number, north: number, pixels: number): void {
    const plane = this.planeOf(this.scene?.exposure ?? null, this.current());
    const zoom = Math.min(this.size.width, this.size.height) / (pixels * scaleOf(plane));
    this.view = { east, north, zoom, turn: this.turn(plane) };
    this.fitted = false;
    this.draw();
  }

  /** Move to a place on the sky, at the zoom that there is. */
  centre(east: number, north: number): void {
    if (!this.view) return;
    this.view = { ...this.view, east, north };
    this.fitted = false;
    this.draw();
  }

  /** A pixel of the screen for each of the image, about what is in the middle. */
  oneToOne(): void {
    const plane = this.planeOf(this.scene?.exposure ?? null, this.current());
    if (!this.view) return;
    const ratio = window.devicePixelRatio || 1;
    this.view = { ...this.view, zoom: 1 / (ratio * scaleOf(plane)) };
    this.fitted = false;
    this.draw();
  }

  planeOf(exposure: Exposure | null, plane: Plane | null): Affine {
    if (exposure?.plane) return exposure.plane as unknown as Affine;
    const info = plane?.info;
    // Not placed: as if it pointed where the reference does, so that the view holds.
    if (exposure && this.scene?.reference?.plane)
      return this.scene.reference.plane as unknown as Affine;
    return unplaced(info?.width ?? 1, info?.height ?? 1);
  }

  private turn(plane: Affine): number {
    if (this.scene?.northUp && this.scene.exposure?.placed) return 0;
    const reference = this.scene?.exposure ? this.scene.reference?.plane : null;
    return turnOf((reference as unknown as Affine) ?? plane);
  }

  toScreen(): Affine {
    const view = this.view ?? { east: 0, north: 0, zoom: 1, turn: 0 };
    return screenOf(view, this.size.width, this.size.height);
  }

  current(): Plane | null {
    const scene = this.scene;
    if (!scene?.shown) return null;
    return this.images.of(scene.rawHeld ? rawOf(scene.shown) : scene.shown, this.level);
  }

  /** From pixels of the image to the screen; null without an image. */
  private pixelToScreen(): Affine | null {
    const plane = this.current();
    if (!plane?.info) return null;
    return compose(this.toScreen(), this.planeOf(this.scene!.exposure, plane));
  }

  /** Pixel of the image under a place on the screen. */
  pixelAt(point: Point): Point | null {
    const all = this.pixelToScreen();
    return all && apply(invert(all), point);
  }

  /** How many pixels of the screen one of the image is wide; 0 without an image. */
  screenPerPixel(): number {
    const all = this.pixelToScreen();
    return all ? scaleOf(all) : 0;
  }

  range(plane: Plane): Range {
    const { stretch } = this.scene!;
    if (stretch.held) return stretch.held;
    const { sky, noise } = plane.info!;
    return { low: sky + stretch.low * noise, high: sky + stretch.high * noise };
  }

  draw(): void {
    const { ctx, size, scene } = this;
    ctx.fillStyle = "#000";
    ctx.fillRect(0, 0, size.width, size.height);
    const plane = this.current();
    const other = scene?.compare ? this.images.of(scene.compare) : null;
    this.onShow = [plane, other];
    if (!scene || !plane) return;
    if (plane.info) {
      const affine = this.planeOf(scene.exposure, plane);
      if (!this.view) {
        this.view = fit(affine, plane.info, size, this.turn(affine));
        this.fitted = true;
      }
      const divide = other ? size.width * scene.divider : size.width;
      const done = this.drawPlane(plane, affine, 0, divide);
      this.level = plane.levelFor(
        scaleOf(compose(this.toScreen(), affine)) * (window.devicePixelRatio || 1),
      );
      if (other?.info) {
        const where = this.planeOf(scene.compareExposure ?? scene.exposure, other);
        this.drawPlane(other, where, divide, size.width);
      }
      const toScreen = this.toScreen();
      const all = compose(toScreen, affine);
      if (scene.exposure?.plane)
        drawOverlay(ctx, scene.overlay, toScreen, all, scaleOf(all), plane.info, size);
      if (scene.touch && scene.exposure?.placed) drawSkyFrame(ctx, toScreen, size, scene.touch);
      if (scaleOf(all) > 18) this.drawGrid(plane, all);
      if (done) this.canvas.dataset.shown = String(scene.shown!.id);
      if (done && this.awaited?.key === `${scene.shown!.kind}${scene.shown!.id}`) {
        performance.measure("exposure-shown", {
          start: this.awaited.since,
          end: performance.now(),
        });
        this.awaited = null;
      }
    }
    this.onDrawn(plane);
  }

  private drawPlane(plane: Plane, affine: Affine, left: number, right: number): boolean {
    const { ctx, size } = this;
    ctx.save();
    ctx.beginPath();
    ctx.rect(left, 0, right - left, size.height);
    ctx.clip();
    const done = this.drawImage(ctx, plane, compose(this.toScreen(), affine));
    ctx.restore();
    return done;
  }

  /** Paint what lies about a pixel on a square of another canvas, turned as on the plate. */
  paintAbout(ctx: CanvasRenderingContext2D, pixel: Point, across: number, width: number): void {
    const plane = this.current();
    if (!plane?.info || !this.scene) return;
    const all = compose(this.toScreen(), this.planeOf(this.scene.exposure, plane));
    const k = width / across / scaleOf(all);
    const p = apply(all, pixel);
    ctx.fillStyle = "#000";
    ctx.fillRect(0, 0, width, width);
    ctx.save();
    const about: Affine = [k, 0, width / 2 - k * p.x, 0, k, width / 2 - k * p.y];
    this.drawImage(ctx, plane, compose(about, all));
    ctx.restore();
  }

  /** Whether the level that is wanted was there; a coarser one stands in for it meanwhile. */
  private drawImage(ctx: CanvasRenderingContext2D, plane: Plane, all: Affine): boolean {
    const { scene } = this;
    const perPixel = scaleOf(all) * (window.devicePixelRatio || 1);
    const level = plane.levelFor(perPixel);
    const done = plane.has(level);
    if (!done) void plane.load(level);
    // Edges of pixels are at half pixels from their centres.
    const [a, b, c, d, e, f] = compose(all, [1, 0, -0.5, 0, 1, -0.5]);
    ctx.transform(a, d, b, e, c, f);
    ctx.imageSmoothingEnabled = perPixel < 3;
    const range = this.range(plane);
    if (!done)
      for (let coarse = plane.info!.levels - 1; coarse >= 0; coarse--)
        if (coarse !== level && plane.has(coarse)) {
          plane.draw(ctx, coarse, range, scene!.look);
          break;
        }
    plane.draw(ctx, level, range, scene!.look);
    return done;
  }

  /** Edges and values of pixels, once they are large enough to be read. */
  private drawGrid(plane: Plane, all: Affine): void {
    const { ctx, size } = this;
    const back = invert(all);
    const corners = [
      [0, 0],
      [size.width, 0],
      [0, size.height],
      [size.width, size.height],
    ].map(([x, y]) => apply(back, { x: x!, y: y! }));
    const [x0, x1] = [Math.min(...corners.map((p) => p.x)), Math.max(...corners.map((p) => p.x))];
    const [y0, y1] = [Math.min(...corners.map((p) => p.y)), Math.max(...corners.map((p) => p.y))];
    const big = scaleOf(all) > 34;
    ctx.strokeStyle = colour("--plate-line");
    ctx.lineWidth = 0.5;
    ctx.font = "10px 'Atkinson Hyperlegible Mono'";
    ctx.textAlign = "center";
    ctx.textBaseline = "middle";
    for (let y = Math.floor(y0); y <= y1; y++)
      for (let x = Math.floor(x0); x <= x1; x++) {
        const value = plane.value(x, y);
        if (value === null) continue;
        const q = [
          [-0.5, -0.5],
          [0.5, -0.5],
          [0.5, 0.5],
        ].map(([dx, dy]) => apply(all, { x: x + dx!, y: y + dy! }));
        ctx.beginPath();
        q.forEach((p, i) => (i ? ctx.lineTo(p.x, p.y) : ctx.moveTo(p.x, p.y)));
        ctx.stroke();
        if (!big) continue;
        const p = apply(all, { x, y });
        ctx.fillStyle = colour("--plate-beam");
        ctx.fillText(value.toFixed(0), p.x, p.y);
      }
  }
}
