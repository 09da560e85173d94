import { describe, expect, it } from "vitest";
import type { Exposure, FilterCurve } from "../../api/types";
import { change, followed, nightOffsets } from "./follows";

/** A check star of two nights that hangs on the airmass, 20 exposures each. */
function nights(slope: number, offset: number): [FilterCurve, Map<number, Exposure>] {
  const ids = Array.from({ length: 40 }, (_, i) => i);
  const jd = ids.map((i) => 2461326.3 + (i < 20 ? 0 : 1) + 0.01 * (i % 20));
  const airmass = ids.map((i) => 1 + 0.05 * (i % 20));
  const wobble = (i: number) => 0.002 * Math.sin(7.3 * i);
  const magnitude = ids.map((i) => 12 + slope * airmass[i]! + (i < 20 ? 0 : offset) + wobble(i));
  const series = [{ role: "check", magnitude, uncertainty: ids.map(() => 0.002), doubtful: [] }];
  const curve = { filter: "V", file_ids: ids, jd_utc: jd, airmass, series };
  const looks = { fwhm_px: 3, sky_adu_per_px: 90 };
  const of = ids.map((id) => ({ id, night: id < 20 ? 7 : 8, ...looks, drift_px: (id * 7) % 5 }));
  return [
    curve as unknown as FilterCurve,
    new Map(of.map((e) => [e.id, e as unknown as Exposure])),
  ];
}

describe("what the check star follows", () => {
  it("is told with its size over the whole range, surest first", () => {
    const [curve, exposures] = nights(0.01, 0);
    const found = followed([curve], exposures);
    expect(found[0]).toMatchObject({ what: "airmass", filter: "V" });
    expect(Math.abs(found[0]!.mmag - 9.5)).toBeLessThan(3 * found[0]!.error);
    expect(found[0]!.sure).toBeGreaterThan(5);
    // What never changes can't be followed.
    expect(found.map((f) => f.what)).toEqual(["airmass", "place on the sensor"]);
    expect(found[1]!.sure).toBeLessThan(3);
  });

  it("is each night's own mean as well", () => {
    const [curve, exposures] = nights(0, 0.012);
    const evenings = new Map([7, 8].map((night) => [night, `2026-10-1${night - 5}`]));
    const offsets = nightOffsets([curve], exposures, evenings);
    expect(offsets.map((o) => o.night)).toEqual(["2026-10-12", "2026-10-13"]);
    expect(offsets[1]!.mmag - offsets[0]!.mmag).toBeCloseTo(12, 0);
    expect(offsets[0]!.points).toBe(20);
  });

  it("takes as much doubt as the points scatter", () => {
    const points = Array.from({ length: 50 }, (_, i) => ({
      x: i,
      y: 0.1 * Math.sin(11.7 * i),
      sigma: 0.001,
    }));
    expect(Math.abs(change(points)!.change)).toBeLessThan(3 * change(points)!.error);
    expect(change(points.slice(0, 5))).toBeNull();
  });
});
