import { describe, expect, it } from "vitest";
import { medians, residualsOf } from "../stages/place/residuals";
import { catalogue, exposure, measured } from "../tests/builders";
import { isFree, lengthWords, stepFor } from "./frame";
import { positionOf } from "./position";
import { planeOf, skyOf } from "./sky";

describe("a position", () => {
  it.each([
    "19 41 02.6 +38 12 44",
    "19:41:02.6 +38:12:44",
    "19h41m02.6s +38d12m44s",
    "19h 41m 02.6s, +38° 12′ 44″",
    "RA 19 41 02.6 Dec +38 12 44",
    "295.260833 38.212222",
    "295.260833°, +38.212222°",
    "19 41 02.6 38 12 44",
  ])("is read however it is written: %s", (text) => {
    const found = positionOf(text)!;
    // A hundredth of a second of time is 0.15″; degrees were given to 0.004″.
    expect(found.ra).toBeCloseTo(295.2608333, 5);
    expect(found.dec).toBeCloseTo(38.2122222, 5);
  });

  it("has a sign also where its degrees are none, and is refused where it is none", () => {
    expect(positionOf("0 00 10 −0 30 00")!.dec).toBeCloseTo(-0.5, 9);
    for (const text of [
      "",
      "Foxglove 7",
      "25 00 00 +10 00 00",
      "12 61 00 +10 00 00",
      "361 10",
      "10 +91",
    ])
      expect(positionOf(text)).toBeNull();
  });

  it("goes to the plane and back", () => {
    const { ra, dec } = skyOf(1234, -987, 341.2, 41.6);
    const back = planeOf(ra, dec, 341.2, 41.6)!;
    expect(back.east).toBeCloseTo(1234, 6);
    expect(back.north).toBeCloseTo(-987, 6);
    expect(planeOf(161, -41.6, 341.2, 41.6)).toBeNull();
  });
});

describe("the grid", () => {
  it("has round steps, and lengths in the unit that they are read in", () => {
    expect(stepFor([1, 2, 5, 10], 3)).toBe(5);
    expect(stepFor([1, 2, 5, 10], 99)).toBe(10);
    expect([30, 300, 7200].map(lengthWords)).toEqual(["30″", "5′", "2°"]);
  });

  it("has its labels beside what stands over the plate, not under it", () => {
    const size = { width: 880, height: 644 };
    expect(isFree({ x: 400, y: 300 }, size)).toBe(true);
    for (const under of [
      { x: 760, y: 84 }, // the compass
      { x: 20, y: 584 }, // the bar of length
      { x: 700, y: 580 }, // the stretch
      { x: 860, y: 300 }, // would be cut off
    ])
      expect(isFree(under, size)).toBe(false);
    expect(isFree({ x: 770, y: 150 }, size)).toBe(true);
  });
});

describe("residuals", () => {
  it("are those of bright stars, sorted by what they are drawn against", () => {
    const here = exposure(1);
    const all = residualsOf(measured(), catalogue(), here, "radius");
    expect(all.length).toBeGreaterThan(0);
    expect(all.map((r) => r.at)).toEqual(all.map((r) => r.at).sort((a, b) => a - b));
    const none = { ...measured(), snr: measured().snr.map(() => 5) };
    expect(residualsOf(none, catalogue(), here, "magnitude")).toEqual([]);
  });

  it("have medians over parts with as many stars each", () => {
    const some = [1, 2, 3, 4, 5, 6, 7].map((at) => ({ at, away: at * at }));
    expect(medians(some, 3).map((r) => r.away)).toEqual([4, 16, 36]);
  });
});
