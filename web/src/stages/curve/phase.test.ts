import { describe, expect, it } from "vitest";
import type { FilterCurve, Peak, SeriesOf, Turn } from "../../api/types";
import type { Marks } from "../../charts/marks";
import { timelineOf } from "../../rail/timeline";
import { stamp } from "./Candidates";
import { ghostsOverPhase, ghostsOverTime } from "./others";
import { binned, epochOf, foldMarks, stackNights } from "./phase";
import { aboutTheirMiddles } from "./shown";
import { departures, departureWords, pinsOf, timeWords } from "./turns";
import { peakShown, periodWords, typed } from "./view";

const T0 = 2461326.3;
const times = [0, 0.1, 0.2, 1.0, 1.1, 1.2].map((d) => T0 + d);
const curve = {
  filter: "V",
  file_ids: [1, 2, 3, 4, 5, 6],
  bjd_tdb: times.map((t) => t + 0.004),
  jd_utc: times,
} as unknown as FilterCurve;
const marks: Marks = {
  key: "Sorrel 1",
  role: "target",
  filter: "V",
  ids: [1, 2, 3, 4, 5, 6],
  x: [0, 1, 2, 3, 4, 5],
  y: [12, 12.2, 12, 12.1, 12.3, null],
  sigma: [0.01, 0.01, 0.02, 0.01, 0.01, null],
  words: ["", "", "", "", "", ""],
  doubtful: [false, false, true, false, false, false],
  limit: [null, null, null, null, null, 14],
};
const turn = (values: Partial<Turn>): Turn => ({
  ...{
    kind: "minimum",
    filter: "",
    bjd: T0 + 0.104,
    hjd_utc: T0 + 0.1032,
    uncertainty_d: 2e-4,
    method: "V",
  },
  ...{ others: [], points: 9, depth_mag: 0.2, symmetric: true, complete: true, source: "" },
  ...{ key: "2461326.40", cycle: 3, given: false, o_minus_c_d: 0.001 },
  ...values,
});
const series = (values: Partial<SeriesOf>): SeriesOf => ({
  ...{ star: "Sorrel 1", elements: [], chosen: null, turns: [], improvement: null },
  scatter_d: null,
  ...values,
});

describe("the curve over phase", () => {
  it("shades later cycles more strongly, and keeps every point", () => {
    const folded = foldMarks([marks], [curve], 0.5, T0);
    expect(folded.map((m) => m.strength)).toEqual([0.45, 1]);
    expect(new Set(folded.flatMap((m) => m.ids))).toEqual(new Set([1, 2, 3, 4, 5, 6]));
  });

  it("begins at the elements' epoch, else at the first whole minimum, else at the first point", () => {
    const own = {
      ...{ epoch_bjd: T0 + 7, period_d: 0.3, kind: "maximum" as const, quadratic_d: 0, source: "" },
      ...{ epoch_uncertainty_d: 0, period_uncertainty_d: 0, quadratic_uncertainty_d: 0 },
    };
    expect(epochOf(series({ elements: [own], chosen: 0 }), [curve])).toEqual({
      bjd: T0 + 7,
      kind: "maximum",
    });
    const turns = [turn({ complete: false, bjd: 1 }), turn({})];
    expect(epochOf(series({ turns }), [curve]).bjd).toBe(T0 + 0.104);
    expect(epochOf(undefined, [curve])).toEqual({ bjd: curve.bjd_tdb[0], kind: "first point" });
  });

  it("takes means that are as unsure as their points scatter, without doubtful ones", () => {
    const [mean] = binned([marks], 10);
    expect(mean!.y[0]).toBeCloseTo(12.15, 9); // of 12, 12.2, 12.1 and 12.3
    // 0.13 of scatter over √4, not the 0.005 that they claim.
    expect(mean!.sigma[0]).toBeCloseTo(0.0645, 3);
    expect(binned([marks], 1)[0]!.y).toHaveLength(4);
  });

  it("stacks nights on one axis of hours, and filters about their middles", () => {
    const evenings = new Map(marks.ids.map((id) => [id, id < 4 ? "2026-10-12" : "2026-10-13"]));
    const stacked = stackNights([marks], [curve], evenings);
    expect(stacked.nights).toEqual(["2026-10-12", "2026-10-13"]);
    expect(stacked.marks[0]!.x[0]).toBeCloseTo(19.2, 6);
    expect(stacked.marks[0]!.x[3]).toBeCloseTo(19.2, 6);
    expect(stacked.marks[0]!.y[3]! - 12.1).toBeCloseTo(stacked.step, 9);
    const [own] = aboutTheirMiddles([marks]);
    expect(own!.y[1]).toBeCloseTo(0.1, 9);
    expect(own!.limit[5]).toBeCloseTo(1.9, 9);
  });

  it("keeps a night together that noon at Greenwich falls into", () => {
    const night = { ...curve, jd_utc: times.map((_, i) => 2461326.9 + 0.05 * i) };
    const evenings = new Map(marks.ids.map((id) => [id, "2026-10-13"]));
    const stacked = stackNights([marks], [night], evenings);
    expect(stacked.nights).toEqual(["2026-10-13"]);
    expect(stacked.marks[0]!.x[0]).toBeCloseTo(9.6, 6);
    expect(stacked.marks[0]!.x[5]).toBeCloseTo(15.6, 6);
  });

  it("leaves doubtful points out of the stamps", () => {
    expect(stamp([marks], [curve], 0.5)).toHaveLength(4);
  });
});

describe("a curve from elsewhere", () => {
  const others = {
    curves: [
      {
        ...{ name: "theirs", file: "/a.csv", columns: {}, points: 3, problem: "" },
        ...{ offset_mag: null, offset_uncertainty_mag: null },
        filter: ["V", "B", ""],
        t_d: [T0 + 0.104, T0 + 0.104, T0 + 400],
        magnitude: [12.1, 13, 12.3],
      },
    ],
  };

  it("lies where its times are, in the filters that are shown", () => {
    const timeline = timelineOf(times.map((jd, i) => ({ jd, night: i < 3 ? 1 : 2 })));
    // The one in B is not shown, the one of another year is not on the axis.
    expect(ghostsOverTime(others, [curve], timeline).map((g) => g.y)).toEqual([12.1]);
    const folded = ghostsOverPhase(others, [curve], 0.5, T0 + 0.104);
    expect(folded.map((g) => [Number(g.x.toFixed(6)), g.y])).toContainEqual([0, 12.1]);
    expect(new Set(folded.map((g) => g.y))).toEqual(new Set([12.1, 12.3]));
    expect(ghostsOverPhase(others, [curve], NaN, T0)).toEqual([]);
    expect(ghostsOverTime(undefined, [], timeline)).toEqual([]);
  });
});

describe("a found period", () => {
  it("is known again by the digits that it was written with, typed ones by their value", () => {
    const found = [0.1759495, 0.3517949].map(
      (period_d) => ({ period_d, uncertainty_d: 1e-4 }) as Peak,
    );
    const words = periodWords(0.3517949, 1e-4);
    expect(words).toBe("0.35179"); // off by more than a hundred-thousandth of itself
    expect(peakShown(found, words)).toBe(found[1]);
    expect(peakShown(found, "0,175950")).toBe(found[0]);
    expect(peakShown(found, "0.3518")).toBeUndefined();
    expect(peakShown(undefined, words)).toBeUndefined();
  });
});

describe("times of minimum", () => {
  it("are written as they deserve", () => {
    expect(timeWords(2461326.409341, 8.1e-5)).toBe("2461326.409341 ± 0.000081");
    expect(timeWords(2461326.4, 0.02)).toBe("2461326.400 ± 0.020");
    expect(departureWords(-0.001)).toBe("−86 s");
    expect(departureWords(0.01)).toBe("+14.4 min");
    expect(periodWords(0.351912345, 3e-5)).toBe("0.351912");
    expect(typed(" 0,35 ")).toBe(0.35);
    expect(typed("")).toBeNaN();
  });

  it("stand on the rail by UTC, and on the chart by cycle", () => {
    const timeline = timelineOf(times.map((jd, i) => ({ jd, night: i < 3 ? 1 : 2 })));
    const known = series({ turns: [turn({}), turn({ bjd: 2450000, source: "a friend" })] });
    const pins = pinsOf(known, [curve], timeline);
    expect(pins).toHaveLength(1); // a time years ago is not on this axis
    expect(pins[0]!.words).toBe("min");
    const there = pinsOf(series({ turns: [turn({ bjd: curve.bjd_tdb[1]! })] }), [curve], timeline);
    expect(pins[0]!.x - there[0]!.x).toBeCloseTo(0, 6);
    expect(departures(known.turns)[0]).toMatchObject({ cycle: 3 });
    expect(departures(known.turns)[0]!.minutes).toBeCloseTo(1.44, 9);
    expect(departures([turn({ cycle: null })])).toEqual([]);
  });
});
