// @vitest-environment jsdom
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { INSET_LEFT, INSET_RIGHT, toHours, toPixel, type Axis } from "../rail/axis";
import { drawRail, lanesOf, qualityRange, type RailPicture } from "../rail/draw";
import { beamPixel } from "../rail/Rail";
import { timelineOf, toAxis } from "../rail/timeline";
import type { Exposure } from "../api/types";
import { exposure } from "./builders";
import { surface, tidy, type Drawn } from "./page";

const [WIDTH, HEIGHT] = [800, 116];

function axisOf(exposures: Exposure[]): Axis {
  const timeline = timelineOf(exposures.map((e) => ({ jd: e.jd_utc, night: e.night })));
  const hours = new Map(exposures.map((e) => [e.id, toAxis(timeline, e.jd_utc)]));
  return { timeline, domain: [0, timeline.hours], clock: "ut", exposures, hours, loading: false };
}

function drawn(exposures: Exposure[], values: Partial<RailPicture> = {}): Drawn[] {
  const [ctx, all] = surface(WIDTH, HEIGHT);
  drawRail(ctx, {
    axis: axisOf(exposures),
    sky: undefined,
    filters: ["V", "B"],
    lines: ["fwhm_px"],
    limits: [],
    lineFilter: "V",
    selection: new Set(),
    width: WIDTH,
    height: HEIGHT,
    ...values,
  });
  return all;
}

const NAMES = ["beam", "trouble", "ink", "panel", "day", "dusk", "moon", "filter-v", "filter-b"];
beforeEach(() =>
  NAMES.forEach((name) => document.documentElement.style.setProperty(`--${name}`, name)),
);
afterEach(tidy);

describe("the rail's axis", () => {
  const domain: [number, number] = [2, 7];

  it("leaves room for labels, and comes back from pixels to hours", () => {
    expect(toPixel(domain, 2, WIDTH)).toBe(INSET_LEFT);
    expect(toPixel(domain, 7, WIDTH)).toBe(WIDTH - INSET_RIGHT);
    for (const hours of [2, 3.3, 6.9])
      expect(toHours(domain, toPixel(domain, hours, WIDTH), WIDTH)).toBeCloseTo(hours, 9);
  });

  it("has no beam where its exposure is out of sight", () => {
    const axis = axisOf([1, 2, 3, 4].map((id) => exposure(id)));
    expect(beamPixel(axis, 2, WIDTH)).toBeGreaterThan(INSET_LEFT);
    expect(beamPixel(axis, null, WIDTH)).toBeNull();
    expect(beamPixel(axis, 99, WIDTH)).toBeNull();
    const late = { ...axis, domain: [axis.hours.get(3)!, axis.timeline.hours] as [number, number] };
    expect(beamPixel(late, 1, WIDTH)).toBeNull();
    expect(beamPixel(late, 4, WIDTH)).not.toBeNull();
  });
});

describe("strokes", () => {
  const lane = lanesOf(["V", "B"], HEIGHT)[0]!;
  const strokes = (all: Drawn[], colour = "filter-v") =>
    all.filter((d) => d.what === "fillRect" && d.fill === colour);

  it("stand in the lane of their filter, as tall as the light that came through", () => {
    const all = drawn([
      exposure(1, { transparency: 1 }),
      exposure(2, { transparency: 0.5 }),
      exposure(3, { filter: "B", transparency: 1 }),
    ]);
    const [full, half] = strokes(all).map((d) => d.at);
    expect(full![3]).toBeCloseTo(lane.base - lane.top, 6);
    expect(half![3]).toBeCloseTo((lane.base - lane.top) / 2, 6);
    expect(half![1]! + half![3]!).toBeCloseTo(lane.base, 6);
    expect(strokes(all, "filter-b")[0]!.at[1]).toBeGreaterThan(lane.base);
  });

  it("are paler before they are measured, palest before they are placed", () => {
    const all = drawn([
      exposure(1),
      exposure(2, { measured: false }),
      exposure(3, { measured: false, placed: false }),
    ]);
    const [measured, placed, raw] = strokes(all).map((d) => d.alpha);
    expect(measured).toBe(1);
    expect(placed).toBeLessThan(1);
    expect(raw).toBeLessThan(placed!);
  });

  it("hang hollow below the lane when set aside, in another colour where something is wrong", () => {
    const all = drawn([
      exposure(1, { aside_by: "observer", aside: "haze" }),
      exposure(2, { trouble: "could not be placed" }),
      exposure(3),
    ]);
    const hollow = all.filter((d) => d.what === "strokeRect");
    expect(hollow.map((d) => d.stroke)).toEqual(["filter-v", "trouble"]);
    for (const d of hollow) expect(d.at[1]).toBeGreaterThan(lane.base);
    expect(strokes(all)).toHaveLength(1);
  });

  it("carry a mark where something is proposed, and a wash where they are selected", () => {
    const all = drawn([exposure(1, { proposal: "cloud" }), exposure(2), exposure(3)], {
      selection: new Set([2]),
    });
    const amber = all.filter((d) => d.fill === "beam" && d.what === "fillRect");
    expect(amber.map((d) => d.alpha).sort()).toEqual([0.28, 1]);
  });

  it("share a pixel where thousands are closer than that, and none that matters gets lost", () => {
    const many = Array.from({ length: 20_000 }, (_, n) =>
      exposure(n + 1, {
        jd_utc: 2461326 + n / 86400,
        transparency: n === 12_345 ? 1 : 0.5,
        ...(n === 5_000 ? { aside: "cloud", aside_by: "observer" } : {}),
        proposal: n === 9_000 ? "wide stars" : "",
      }),
    );
    const all = drawn(many, { filters: ["V"], selection: new Set([7_001]) });
    const tall = strokes(all).map((d) => d.at[3]!);
    expect(tall.length).toBeLessThanOrEqual(WIDTH);
    expect(tall.length).toBeGreaterThan(WIDTH / 2);
    const most = Math.max(...tall);
    expect(tall.filter((t) => t > 0.75 * most)).toHaveLength(1);
    expect(all.filter((d) => d.what === "strokeRect")).toHaveLength(1);
    expect(strokes(all, "beam")).toHaveLength(2); // the chosen one, and the proposed one
  });
});

describe("what lies behind and before the strokes", () => {
  const exposures = [1, 2, 3, 4].map((id) => exposure(id, { fwhm_px: 2 + id }));

  it("shows day, dusk and moon only while they last", () => {
    const jd = exposures.map((e) => e.jd_utc);
    const sky = {
      nights: [
        {
          night: 1,
          jd_utc: jd,
          sun_deg: [2, -9, -30, -30],
          moon_deg: [-5, -5, -5, 20],
          target_deg: [40, 45, 50, 55],
          moon_lit: 0.5,
        },
      ],
    };
    const fills = drawn(exposures, { sky }).filter((d) => d.what === "fillRect");
    expect(fills.filter((d) => d.fill === "day")).toHaveLength(1);
    expect(fills.filter((d) => d.fill === "dusk").map((d) => d.alpha)).toEqual([0.5]);
    expect(fills.filter((d) => d.fill === "moon").map((d) => d.at[3])).toEqual([2]);
  });

  it("takes its range from what takes part", () => {
    const night = [
      ...exposures,
      exposure(8, { fwhm_px: 40, aside_by: "observer" }),
      exposure(9, { fwhm_px: 90, trouble: "not placed" }),
      exposure(10, { fwhm_px: null }),
    ];
    expect(qualityRange(night, "fwhm_px")).toEqual([3, 6]);
    expect(qualityRange([exposure(1)], "fwhm_px")).toEqual([2.5, 3.5]);
    expect(qualityRange([exposure(1, { fwhm_px: null })], "fwhm_px")).toBeNull();
  });

  it("breaks the line at nights and long gaps", () => {
    const two = [
      exposure(1),
      exposure(2),
      exposure(3, { jd_utc: exposure(3).jd_utc + 0.05 }),
      exposure(4, { night: 2, jd_utc: exposure(4).jd_utc + 1 }),
    ];
    const line = drawn(two).filter((d) => d.stroke === "ink" && /To$/.test(d.what));
    expect(line.map((d) => d.what)).toEqual(["moveTo", "lineTo", "moveTo", "moveTo"]);
  });

  it("draws nothing before there is a night", () => {
    expect(drawn([]).map((d) => d.what)).toEqual(["clearRect"]);
  });
});
