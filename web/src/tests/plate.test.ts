// @vitest-environment jsdom
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { ImageInfo } from "../api/types";
import { Images, Plane, rawOf } from "../plate/images";
import { inTurn } from "../plate/neighbours";
import { drawOverlay, starAt, type Overlay } from "../plate/overlay";
import type { Affine } from "../plate/view";
import { campaign, catalogue, measured } from "./builders";
import { surface, tidy, type Drawn } from "./page";

const info = (values: Partial<ImageInfo> = {}): ImageInfo => ({
  width: 1500,
  height: 700,
  levels: 3,
  first: [1, 1],
  step: 1,
  tile: 1024,
  offset: 100,
  scale: 2,
  sky: 120,
  noise: 5,
  low: 100,
  high: 900,
  histogram: [1],
  histogram_low: 100,
  histogram_step: 1,
  ...values,
});

const SHOWN = { kind: "files", id: 7, off: "", version: "a b" } as const;
let asked: string[] = [];

/** Tiles of which every word is 1 + column + 10 · row of the tile; `answer` overrides a path. */
function tiles(answer: (path: string) => Response | null = () => null): void {
  asked = [];
  vi.stubGlobal("fetch", (path: string) => {
    asked.push(path.split("/api/images/")[1]!);
    const other = answer(path);
    if (other) return Promise.resolve(other);
    const match = /\/(\d)\/(\d)\/(\d)\?/.exec(path);
    if (!match) return Promise.resolve(new Response(JSON.stringify(info())));
    const [level, column, row] = match.slice(1).map(Number) as [number, number, number];
    const width = Math.min(1024, (1500 >> level) - column * 1024);
    const height = Math.min(1024, (700 >> level) - row * 1024);
    const words = new Uint16Array(width * height).fill(1 + column + 10 * row);
    return Promise.resolve(
      new Response(words.buffer, {
        headers: { "X-Tile-Width": String(width), "X-Tile-Height": String(height) },
      }),
    );
  });
}

afterEach(tidy);

describe("an image of the server", () => {
  it("comes in the tiles of one level, each asked for once", async () => {
    tiles();
    const changed = vi.fn();
    const plane = new Plane(SHOWN, changed);
    await plane.load(0);
    await plane.load(0);
    expect(asked).toEqual(
      ["files/7", "files/7/0/0/0", "files/7/0/1/0"].map((path) => `${path}?off=&version=a%20b`),
    );
    expect(plane.has(0)).toBe(true);
    expect(plane.has(1)).toBe(false);
    expect(changed).toHaveBeenCalledTimes(3);
  });

  it("gives values in ADU, none outside, and fetches what it lacks", async () => {
    tiles();
    const plane = new Plane(SHOWN, () => {});
    await plane.load(0);
    expect(plane.value(3, 4)).toBe(100);
    expect(plane.value(1100, 4)).toBe(102);
    expect(plane.value(-1, 4)).toBeNull();
    expect(plane.value(3, 700)).toBeNull();
    const fresh = new Plane(SHOWN, () => {});
    await fresh.ready;
    expect(fresh.value(3, 4)).toBeNull();
    await vi.waitFor(() => expect(fresh.value(3, 4)).toBe(100));
  });

  it("has no value where the word is 0", async () => {
    tiles((path) =>
      /\/0\/0\/0\?/.test(path)
        ? new Response(new Uint16Array(1024 * 700).buffer, {
            headers: { "X-Tile-Width": "1024", "X-Tile-Height": "700" },
          })
        : null,
    );
    const plane = new Plane(SHOWN, () => {});
    await plane.load(0);
    expect(plane.value(5, 5)).toBeNull();
  });

  it("takes the level that still gives each pixel of the screen one of its own", async () => {
    tiles();
    const plane = new Plane(SHOWN, () => {});
    await plane.ready;
    expect([2, 1, 0.5, 0.26, 0.01].map((zoom) => plane.levelFor(zoom))).toEqual([0, 0, 1, 2, 2]);
  });

  it("says why it is not there, and is asked for again", async () => {
    tiles((path) =>
      path.includes("?off=") && !/\/\d\/\d\/\d/.test(path)
        ? new Response(JSON.stringify({ title: "Gone", detail: "Was it moved?" }), { status: 404 })
        : null,
    );
    const images = new Images(() => {});
    const plane = images.of(SHOWN);
    await plane.ready;
    expect(plane.error).toBe("Gone. Was it moved?");
    // Not with every drawing: only after a while.
    expect(images.of(SHOWN)).toBe(plane);
    vi.spyOn(performance, "now").mockReturnValue(performance.now() + 5000);
    expect(images.of(SHOWN)).not.toBe(plane);
  });

  it("says why a tile is missing, and waits for a server that is away", async () => {
    let status = 503;
    tiles((path) =>
      path.includes("/0/1/0?")
        ? new Response(JSON.stringify({ title: "An error", detail: "of the program" }), { status })
        : null,
    );
    const plane = new Plane(SHOWN, () => {});
    await plane.load(0);
    expect(plane.error).toBe("");
    status = 500;
    await plane.load(0);
    expect(plane.error).toBe("An error. of the program");
    await plane.load(0);
    expect(asked.filter((path) => path.includes("/0/1/0?"))).toHaveLength(2);
  });

  it("comes with its facts and the tile that is wanted in one answer", async () => {
    tiles((path) =>
      path.includes("facts=1")
        ? new Response(new Uint16Array(4), {
            headers: {
              "X-Tile-Width": "2",
              "X-Tile-Height": "2",
              "X-Image": JSON.stringify(info()),
            },
          })
        : null,
    );
    const plane = new Plane(SHOWN, () => {}, 2);
    await plane.load(2);
    expect(plane.info).toEqual(info());
    expect(plane.has(2)).toBe(true);
    expect(asked).toHaveLength(1);
  });

  it("of another size is asked for its facts, where the level is none of its own", async () => {
    tiles((path) =>
      path.includes("facts=1") ? new Response(JSON.stringify({}), { status: 404 }) : null,
    );
    const plane = new Plane(SHOWN, () => {}, 9);
    await plane.ready;
    expect([plane.error, plane.info?.width]).toEqual(["", 1500]);
  });

  it("that comes next is fetched before those after it, until the beam goes elsewhere", async () => {
    const begun: number[] = [];
    const ends: (() => void)[] = [];
    const work = [0, 1, 2, 3].map((n) => () => {
      begun.push(n);
      return new Promise<void>((end) => ends.push(end));
    });
    const stop = inTurn(work, 2);
    expect(begun).toEqual([0, 1]);
    ends[0]!();
    await vi.waitFor(() => expect(begun).toEqual([0, 1, 2]));
    stop();
    ends.forEach((end) => end());
    await Promise.resolve();
    expect(begun).toEqual([0, 1, 2]);
  });

  it("is another one when its pixels are", () => {
    tiles();
    const images = new Images(() => {});
    expect(images.of({ ...SHOWN, version: "b" })).not.toBe(images.of(SHOWN));
  });

  it("is kept while it is looked at, and let go of after sixteen others", async () => {
    tiles();
    const images = new Images(() => {});
    const first = images.of(SHOWN);
    for (let id = 100; id < 115; id++) images.of({ ...SHOWN, id });
    expect(images.of(SHOWN)).toBe(first);
    for (let id = 200; id < 216; id++) images.of({ ...SHOWN, id });
    expect(images.of(SHOWN)).not.toBe(first);
    expect(rawOf(SHOWN).off).toBe("overscan,offset,flat,repair");
    await first.ready;
  });
});

// A second of arc is 2 pixels of the screen, east to the left; the target in the middle.
const toScreen: Affine = [-2, 0, 600, 0, -2, 300];
const pixelToScreen: Affine = [2.4, 0, -168, 0, -2.4, 876];

const overlay = (values: Partial<Overlay> = {}): Overlay => ({
  catalogue: catalogue(),
  cast: campaign().cast,
  measured: measured(),
  band: "V",
  star: null,
  hovered: null,
  residuals: false,
  defects: null,
  evidence: null,
  pointed: [],
  marked: null,
  stars: false,
  ...values,
});

const image = { width: 640, height: 480 };

function drawn(values: Partial<Overlay> = {}, screenPerPixel = 1, width = 1200): Drawn[] {
  const [ctx, all] = surface(width, 600);
  const screen = { width, height: 600 };
  drawOverlay(ctx, overlay(values), toScreen, pixelToScreen, screenPerPixel, image, screen);
  return all;
}

describe("what is drawn over the plate", () => {
  beforeEach(() => {
    for (const name of ["beam", "ink", "quiet", "check", "comparison"])
      document.documentElement.style.setProperty(`--plate-${name}`, name);
  });

  it("names roles by shape, letter and colour", () => {
    const letters = drawn().filter((d) => d.what.startsWith("fillText"));
    expect(letters.map((d) => [d.what, d.fill])).toEqual([
      ["fillText 1", "comparison"],
      ["fillText 2", "comparison"],
      ["fillText K", "check"],
      ["fillText T", "beam"],
    ]);
    // The target's letter stands beside the middle of the screen, where the target is.
    expect(letters[3]!.at[0]).toBeGreaterThan(600);
    expect(letters[3]!.at[0]).toBeLessThan(630);
  });

  it("draws aperture and ring to scale, only when near", () => {
    expect(drawn({}, 1).filter((d) => d.what === "arc")).toEqual([]);
    const arcs = drawn({}, 2.4).filter((d) => d.what === "arc");
    // Of the two measured stars both have parts: aperture, dark beneath bright, and the ring.
    const one = [4.8, 4.8, 10.5, 16.5];
    expect(arcs.map((d) => d.at[2])).toEqual([...one, ...one].map((r) => r * 2.4));
    expect(arcs[0]!.at.slice(0, 2)).toEqual([600, 300]);
  });

  it("enlarges residuals two hundred times, of bright stars only", () => {
    const bright = drawn({ cast: null, residuals: true });
    const [, tip] = bright.filter((d) => /moveTo|lineTo/.test(d.what)).slice(6);
    expect(bright.filter((d) => d.what === "stroke")).toHaveLength(2);
    // Half a pixel east of its place: 100 pixels of the image, 240 of the screen.
    const start = bright.filter((d) => d.what === "moveTo")[3]!;
    expect(tip!.at[0]! - start.at[0]!).toBeCloseTo(240, 6);
    const faint = { ...measured(), snr: [10, 20] };
    expect(drawn({ cast: null, residuals: true, measured: faint })).toEqual([]);
  });

  it("rings the brightest of the catalogue and marks those known to vary", () => {
    const arcs = drawn({ cast: null, stars: true }).filter((d) => d.what === "arc");
    // Five stars, and a second arc for the variable one.
    expect(arcs).toHaveLength(6);
    // What is off the screen takes nobody's place.
    expect(drawn({ cast: null, stars: true }, 1, 300).some((d) => d.at[0]! > 300)).toBe(false);
    const radius = (x: number) => arcs.find((d) => d.at[0] === x)!.at[2]!;
    expect(radius(600 - 120)).toBeGreaterThan(radius(600 - 360));
  });

  it("brackets the chosen star, else the one under the pointer", () => {
    const corners = drawn({ cast: null, hovered: 1 }).filter((d) => d.what === "moveTo");
    expect(corners.map((d) => d.at[0]! - (600 - 120))).toEqual([18, -18, 0, 0]);
    const chosen = drawn({ cast: null, hovered: 1, star: 2 }).filter((d) => d.what === "moveTo");
    expect(chosen[0]!.at[0]).toBe(600 - 240 + 18);
  });

  it("finds the star that is pointed at", () => {
    expect(starAt(catalogue(), toScreen, 482, 303, 12)).toBe(1);
    expect(starAt(catalogue(), toScreen, 540, 300, 12)).toBeNull();
    expect(starAt(undefined, toScreen, 600, 300, 12)).toBeNull();
  });
});
