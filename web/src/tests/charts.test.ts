// @vitest-environment jsdom
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { rangeOf, rangeOfMarks, type Place } from "../charts/Chart";
import { extent, labelsOf, timeOfDay } from "../charts/extent";
import { drawMarks, hitAt, namesOf, shape, type Marks } from "../charts/marks";
import { tellMagnitude } from "../charts/MarksChart";
import { surface, tidy } from "./page";

const place: Place = { x: (v) => 100 * v, y: (v) => 50 * v, ratio: 1 };
const marks = (values: Partial<Marks> = {}): Marks => ({
  key: "Foxglove 7",
  role: "target",
  filter: "V",
  ids: [1, 2, 3],
  x: [1, 2, 3],
  y: [2, null, 4],
  sigma: [0.1, 0.1, 0.2],
  words: ["", "", "bad pixel"],
  doubtful: [false, false, true],
  limit: [null, null, null],
  ...values,
});

beforeEach(() => {
  for (const name of ["beam", "ground", "check", "comparison", "filter-v"])
    document.documentElement.style.setProperty(`--${name}`, name);
});
afterEach(tidy);

describe("marks", () => {
  it("have a bar of one sigma to either side, and none where nothing was measured", () => {
    const [ctx, drawn] = surface();
    drawMarks(ctx, place, marks(), null, new Set());
    const bars = drawn.filter((d) => d.alpha < 1 && /moveTo|lineTo/.test(d.what));
    expect(bars.map((d) => d.at)).toEqual([
      [100, 95],
      [100, 105],
      [300, 190],
      [300, 210],
    ]);
  });

  it("are full where they are good and hollow where they are doubtful", () => {
    const [ctx, drawn] = surface();
    drawMarks(ctx, place, marks(), null, new Set());
    const fills = drawn.filter((d) => d.what === "fill");
    expect(fills.map((d) => d.fill)).toEqual(["filter-v", "ground"]);
    const [good] = [surface()];
    drawMarks(good[0], place, marks({ doubtful: [false, false, false] }), null, new Set());
    expect(good[1].filter((d) => d.what === "fill")).toHaveLength(1);
  });

  it("of the target are named by filter where there are several, at their first point in sight", () => {
    const blue = marks({ filter: "B", x: [3, 0.5, 2] });
    const night = marks({ x: [4, 5, 6] });
    const check = marks({ role: "check", filter: "R" });
    const named = namesOf([marks({ x: [0, 2, 3], y: [2, null, 4] }), night, blue, check], 0.2);
    expect(named.map(({ words, x, y }) => [words, x, y])).toEqual([
      ["V", 3, 4],
      ["B", 2, 4],
    ]);
    expect(namesOf([marks(), night, check], 0)).toEqual([]);
  });

  it("have a line with a stem downwards where the star was not seen", () => {
    const [ctx, drawn] = surface();
    drawMarks(ctx, place, marks({ limit: [null, 5, null] }), null, new Set());
    const lines = drawn.filter((d) => d.what === "lineTo").map((d) => d.at);
    expect(lines.at(-1)![0]).toBe(200); // at x = 2, and below y = 5
    expect(lines.at(-1)![1]).toBeGreaterThan(250);
    const seen = marks({ limit: [null, 5, null] });
    const hit = hitAt([seen], place.x, place.y, 201, 251)!;
    expect(tellMagnitude(hit, "Foxglove 7")).toBe("Foxglove 7 V  not seen, fainter than 5.00 mag");
    // And the axis reaches there.
    expect(rangeOfMarks([marks({ limit: [null, 5, null] })], 0.1, [0, 1])[1]).toBeGreaterThan(5);
  });

  it("are ringed under the beam and where they were drawn around", () => {
    const [ctx, drawn] = surface();
    drawMarks(ctx, place, marks(), 1, new Set([3]));
    const rings = drawn.filter((d) => d.what === "arc");
    expect(rings.map((d) => [d.at[0], d.stroke])).toEqual([
      [100, "beam"],
      [300, "beam"],
    ]);
  });

  it("tell roles apart by shape as well as by colour", () => {
    const outline = (role: Marks["role"]) => {
      const [ctx, drawn] = surface();
      shape(ctx, role, 0, 0, 10);
      return drawn.map((d) => d.what).join(" ");
    };
    const outlines = (["target", "check", "comparison"] as const).map(outline);
    expect(new Set(outlines).size).toBe(3);
    const [ctx, drawn] = surface();
    drawMarks(ctx, place, marks({ role: "check" }), null, new Set());
    drawMarks(ctx, place, marks({ role: "comparison" }), null, new Set());
    expect(drawn.filter((d) => d.what === "fill").map((d) => d.fill)).toEqual([
      "check",
      "ground",
      "comparison",
      "ground",
    ]);
  });

  it("are found where they are pointed at, the nearest first", () => {
    const all = [marks(), marks({ key: "other", x: [1.05, 5, 5] })];
    expect(hitAt(all, place.x, place.y, 104, 101)?.marks.key).toBe("other");
    expect(hitAt(all, place.x, place.y, 100, 101)?.marks.key).toBe("Foxglove 7");
    expect(hitAt(all, place.x, place.y, 200, 100)).toBeNull();
    expect(hitAt(all, place.x, place.y, 100, 120, 10)).toBeNull();
  });

  it("are told with their uncertainty", () => {
    const hit = { id: 3, marks: marks({ y: [2, null, 12.34567] }), index: 2 };
    expect(tellMagnitude(hit, "Foxglove 7")).toBe("Foxglove 7 V  12.3457 ± 0.2000 mag");
  });
});

describe("a chart's range", () => {
  it("spans however many numbers", () => {
    const many = Array.from({ length: 300_000 }, (_, n) => (n * 7919) % 300_000);
    expect(extent(many)).toEqual([0, 299_999]);
    expect(extent([3, NaN, -2])).toEqual([-2, 3]);
  });

  it("gives all numbers along an axis as many decimals as one of them needs", () => {
    expect(labelsOf([12.8, 13, 13.2])).toEqual(["12.8", "13.0", "13.2"]);
    expect(labelsOf([-0.05, 0, 0.1 + 0.2])).toEqual(["−0.05", "0.00", "0.30"]);
    expect(labelsOf([10, 11])).toEqual(["10", "11"]);
    expect(labelsOf([-2, 0], 2)).toEqual(["−2.00", "0.00"]);
    expect(labelsOf([0, 0.25, 0.5], 1)).toEqual(["0.00", "0.25", "0.50"]);
  });

  it("leaves air, is never narrower than asked, and stands in where there is nothing", () => {
    const [low, high] = rangeOf([10, null, 12, NaN], 0.1, [0, 1]);
    expect(low).toBeLessThan(10);
    expect(high).toBeGreaterThan(12);
    expect((low + high) / 2).toBeCloseTo(11, 9);
    const [from, to] = rangeOf([5, 5], 0.5, [0, 1]);
    expect(to - from).toBeGreaterThanOrEqual(0.5);
    expect(rangeOf([null, NaN], 1, [3, 4])).toEqual([3, 4]);
  });
});

describe("times of day along an axis", () => {
  it("are told beyond midnight and to the minute", () => {
    const hours = [9.5, 19 + 1 / 3, 24, 25.25, -0.5, 23 + 59.6 / 60];
    expect(hours.map(timeOfDay)).toEqual(["09:30", "19:20", "00:00", "01:15", "23:30", "00:00"]);
  });
});
