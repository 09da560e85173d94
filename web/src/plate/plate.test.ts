import { describe, expect, it } from "vitest";
import { lookAt } from "./profile";
import { skyOf } from "./sky";
import { colourTable, shade } from "./stretch";
import {
  apply,
  compose,
  fit,
  invert,
  panBy,
  screenOf,
  turnOf,
  zoomAt,
  type Affine,
  type View,
} from "./view";

// 1.2″ a pixel, turned by 30°, with the target at pixel (100, 80).
const [c, s] = [1.2 * Math.cos(0.52), 1.2 * Math.sin(0.52)];
const plane: Affine = [-c, s, 100 * c - 80 * s, s, c, -100 * s - 80 * c];
const screen = { width: 900, height: 600 };

describe("the view of the plate", () => {
  const view: View = { east: 10, north: -20, zoom: 2, turn: 0.3 };

  it("has north up and east left where nothing is turned", () => {
    const m = screenOf({ east: 0, north: 0, zoom: 1, turn: 0 }, 900, 600);
    expect(apply(m, { x: 0, y: 0 })).toEqual({ x: 450, y: 300 });
    expect(apply(m, { x: 10, y: 0 }).x).toBeLessThan(450);
    expect(apply(m, { x: 0, y: 10 }).y).toBeLessThan(300);
  });

  it("goes back to where it came from", () => {
    const all = compose(screenOf(view, 900, 600), plane);
    const there = apply(all, { x: 12, y: 34 });
    const back = apply(invert(all), there);
    expect(back.x).toBeCloseTo(12, 9);
    expect(back.y).toBeCloseTo(34, 9);
  });

  it("puts an exposure upright by its turn", () => {
    const m = compose(screenOf({ ...view, turn: turnOf(plane) }, 900, 600), plane);
    const [low, high] = [apply(m, { x: 50, y: 50 }), apply(m, { x: 50, y: 60 })];
    expect(high.x).toBeCloseTo(low.x, 9);
    expect(high.y).toBeLessThan(low.y);
  });

  it("shows all of an image and no more than that", () => {
    const image = { width: 400, height: 300 };
    const whole = fit(plane, image, screen, turnOf(plane));
    const all = compose(screenOf(whole, 900, 600), plane);
    const ys = [-0.5, 299.5].map((y) => apply(all, { x: 0, y }).y).sort((a, b) => a - b);
    expect(ys[0]).toBeCloseTo(0, 6);
    expect(ys[1]).toBeCloseTo(600, 6);
  });

  it("zooms about the pointer and pans with it", () => {
    const pointer = { x: 200, y: 450 };
    const on = (v: View) => apply(invert(screenOf(v, 900, 600)), pointer);
    const before = on(view);
    const after = on(zoomAt(view, pointer, 3, screen));
    expect(after.x).toBeCloseTo(before.x, 9);
    expect(after.y).toBeCloseTo(before.y, 9);
    const moved = panBy(view, 40, -25);
    const there = apply(screenOf(moved, 900, 600), before);
    expect(there.x).toBeCloseTo(240, 9);
    expect(there.y).toBeCloseTo(425, 9);
  });
});

describe("the stretch", () => {
  const range = { low: 100, high: 600 };

  it("lifts faint light and keeps its order", () => {
    expect(shade(100, range)).toBe(0);
    expect(shade(600, range)).toBe(1);
    expect(shade(200, range)).toBeGreaterThan(0.2);
    expect(shade(300, range)).toBeGreaterThan(shade(299, range));
  });

  it("gives every word the shade of its value", () => {
    const table = colourTable(50, 0.5, range, "night");
    const word = 1 + (250 - 50) / 0.5;
    expect(table[word]! & 255).toBe(Math.round(255 * shade(250, range)));
    expect(table[1]! & 255).toBe(0);
    expect(table[65535]! & 255).toBe(255);
  });

  it("shows nothing but red under the red lamp", () => {
    for (const colour of colourTable(50, 0.5, range, "red")) expect(colour & 0x00ffff00).toBe(0);
  });
});

describe("the loupe", () => {
  it("finds centre and width of a star", () => {
    const sigma = 3.2 / 2.3548;
    const star = (x: number, y: number) =>
      100 + 5000 * Math.exp(-((x - 20.3) ** 2 + (y - 19.6) ** 2) / (2 * sigma ** 2));
    const look = lookAt(star, 19, 21)!;
    expect(look.x).toBeCloseTo(20.3, 1);
    expect(look.y).toBeCloseTo(19.6, 1);
    // Rings of a pixel's width smear the profile a little.
    expect(Math.abs(look.fwhm! - 3.2)).toBeLessThan(0.35);
  });

  it("says nothing where there is no light", () => {
    expect(lookAt(() => 100, 20, 20)).toBeNull();
    expect(lookAt(() => null, 20, 20)).toBeNull();
  });

  it("takes noise for no star, and a faint star for one", () => {
    // Sums of twelve even ones are nearly normal.
    let seed = 7;
    const even = () => (seed = (seed * 16807) % 2147483647) / 2147483647;
    const noise = Array.from(
      { length: 4000 },
      () => 10 * (Array.from({ length: 12 }, even).reduce((a, b) => a + b) - 6),
    );
    const sky = (x: number, y: number) => 100 + noise[Math.abs(63 * y + x) % 4000]!;
    const spots = Array.from({ length: 40 }, (_, n) => [15 + 7 * (n % 8), 15 + 9 * (n >> 3)]);
    expect(spots.filter(([x, y]) => lookAt(sky, x!, y!) !== null)).toHaveLength(0);
    const star = (x: number, y: number) =>
      sky(x, y) + 60 * Math.exp(-((x - 20) ** 2 + (y - 20) ** 2) / 4);
    expect(lookAt(star, 20, 20)!.peak).toBeGreaterThan(140);
  });
});

describe("the sky under the pointer", () => {
  it("is the target at the middle and turns with right ascension", () => {
    expect(skyOf(0, 0, 340.26, 38.2)).toEqual({ ra: 340.26, dec: 38.2 });
    const east = skyOf(3600, 0, 340, 60);
    // A degree of arc at a declination of 60° is two degrees of right ascension.
    expect(east.ra - 340).toBeCloseTo(2, 1);
    expect(skyOf(0, 3600, 340, 60).dec).toBeCloseTo(61, 3);
  });
});
