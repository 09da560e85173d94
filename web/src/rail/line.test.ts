import { describe, expect, it } from "vitest";
import { columnsOf } from "./line";

const night = (count: number, stepPx: number, first = 100) =>
  Array.from({ length: count }, (_, n) => ({
    x: first + n * stepPx,
    jd: 2461300 + n / 1440,
    night: 1,
    value: n % 2 ? 3.2 : 2.8,
  }));

describe("a line on the rail", () => {
  it("goes through every exposure that can be told from the next", () => {
    const columns = columnsOf(night(5, 4));
    expect(columns.map((c) => [c.x, c.middle, c.count])).toEqual(
      night(5, 4).map((p) => [p.x, p.value, 1]),
    );
    expect(columns.map((c) => c.joined)).toEqual([false, true, true, true, true]);
  });
  it("goes through the middle of those that stand closer, and keeps how far they reach", () => {
    const columns = columnsOf(night(600, 0.25, 99));
    expect(columns.length).toBe(50);
    for (const column of columns) {
      expect(column.middle).toBeCloseTo(3.0, 9);
      expect([column.low, column.high, column.count]).toEqual([2.8, 3.2, 12]);
    }
  });
  it("breaks where a night ends or pauses", () => {
    const late = night(4, 0.5).map((p) => ({ ...p, jd: p.jd + 0.1 }));
    const next = late.map((p) => ({ ...p, night: 2 }));
    const joined = columnsOf([...night(4, 0.5), ...late, ...next]).map((c) => c.joined);
    expect(joined).toEqual([false, false, false]);
  });
});
