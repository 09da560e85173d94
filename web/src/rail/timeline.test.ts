import { describe, expect, it } from "vitest";
import { momentOf, tickLabels, ticks, timelineOf, toAxis, toMoment, zoomed } from "./timeline";

// Noon UTC of a day is a whole Julian date: 0.25 is 18 h.
const DAY = 2461326;
const night = (start: number, hours: number, name: number, step = 0.1) =>
  Array.from({ length: Math.round(hours / step) + 1 }, (_, i) => ({
    jd: start + (i * step) / 24,
    night: name,
  }));

describe("the axis of time", () => {
  const two = timelineOf([...night(DAY + 0.3, 5, 1), ...night(DAY + 1.3, 4, 2)]);

  it("cuts the daytime out", () => {
    expect(two.segments.map((s) => s.night)).toEqual([1, 2]);
    expect(two.hours).toBeGreaterThan(9);
    expect(two.hours).toBeLessThan(9.7);
  });

  it("cuts a long gap of one night as well", () => {
    const gap = timelineOf([...night(DAY + 0.2, 1, 1), ...night(DAY + 0.4, 1, 1)]);
    expect(gap.segments).toHaveLength(2);
  });

  it("finds the moment of a place and the place of a moment", () => {
    for (const jd of [DAY + 0.3, DAY + 0.41, DAY + 1.37])
      expect(toMoment(two, toAxis(two, jd))).toBeCloseTo(jd, 6);
  });

  it("finds each of a hundred nights, and the nearer edge for what is in no night", () => {
    const long = timelineOf(
      Array.from({ length: 100 }, (_, n) => night(DAY + n + 0.3, 2, n)).flat(),
    );
    for (const n of [0, 1, 49, 98, 99]) {
      const { offset } = long.segments[n]!;
      expect(toAxis(long, DAY + n + 0.3)).toBeCloseTo(offset + 0.1, 6);
      expect(toAxis(long, DAY + n + 0.28)).toBeCloseTo(offset, 6);
      expect(toAxis(long, DAY + n + 0.4)).toBeCloseTo(offset + 2.2, 6);
    }
  });

  it("puts ticks on round times of day, the date once a night", () => {
    const found = ticks(two, [0, two.hours], 800);
    expect(found.map((t) => t.label).slice(0, 3)).toEqual(["20h", "21h", "22h"]);
    expect(found.filter((t) => t.date).length).toBe(2);
    for (const t of found) {
      const at = momentOf(toMoment(two, t.at));
      expect((at.getUTCMinutes() * 60 + at.getUTCSeconds() + 2) % 3600).toBeLessThan(5);
    }
  });

  it("dates a time of day by its own day, also where the night began on the one before", () => {
    const after = toAxis(two, DAY + 0.505);
    const [first] = ticks(two, [after, after + 2], 800);
    expect([first!.date, first!.label]).toEqual(["13 Oct", "00:10"]);
    const [midnight] = ticks(two, [toAxis(two, DAY + 0.4999), after + 2], 800);
    expect([midnight!.date, midnight!.label]).toEqual(["13 Oct", "00:00"]);
  });

  it("puts ticks on round Julian dates, the whole day once", () => {
    const found = ticks(two, [0, two.hours], 800, "jd");
    const days = found.filter((t) => t.date);
    expect(days.map((t) => t.date)).toEqual([`JD ${DAY}`, `JD ${DAY + 1}`]);
    for (const t of found) expect(toMoment(two, t.at) % 1).toBeCloseTo(Number(`0${t.label}`), 6);
    const labels = tickLabels(
      found,
      (at) => 58 + at * 90,
      (text) => 6 * text.length,
      0,
      2000,
    );
    expect(labels[0]!.text).toMatch(/^JD \d{7}\.\d+$/);
  });

  it("labels nights without one label over another, where they meet and where they are many", () => {
    for (const count of [2, 3, 12]) {
      const all = Array.from({ length: count }, (_, n) => night(DAY + 0.31 + n, 3.3, n)).flat();
      const axis = timelineOf(all);
      const place = (at: number) => 58 + (at / axis.hours) * 816;
      const wide = (text: string) => 6.6 * text.length;
      const labels = tickLabels(ticks(axis, [0, axis.hours], 816), place, wide, 58, 874);
      const ends = labels
        .map(({ text, x }) => [x - wide(text) / 2, x + wide(text) / 2] as const)
        .sort((a, b) => a[0] - b[0]);
      for (let i = 1; i < ends.length; i++) expect(ends[i]![0]).toBeGreaterThan(ends[i - 1]![1]);
      expect(ends[0]![0]).toBeGreaterThanOrEqual(57.9);
      expect(labels.filter((l) => l.date).length).toBeGreaterThan(1);
    }
  });

  it("zooms about a place that stands still, and never beyond the axis", () => {
    const near = zoomed([0, 10], 4, 0.5, 10);
    expect((4 - near[0]) / (near[1] - near[0])).toBeCloseTo(0.4, 9);
    expect(zoomed([2, 4], 3, 100, 10)).toEqual([0, 10]);
  });
});
