import { expect, test } from "vitest";
import { exposuresOf } from "./columns";

test("columns are the rows that they were made of", () => {
  const { exposures, reference } = exposuresOf({
    count: 3,
    columns: {
      id: [7, 8, 9],
      filter: { words: ["V", "B"], at: [0, 1, 0] },
      trouble: { all: "" },
      jd_utc: [2461304.340625, 2461304.341, 2461304.5],
      fwhm_px: [3.1, null, 2.9],
    },
    reference: 8,
    reference_words: "",
    parts: 4,
  });
  expect(exposures.map((e) => e.filter)).toEqual(["V", "B", "V"]);
  expect(exposures.map((e) => e.trouble)).toEqual(["", "", ""]);
  expect(exposures.map((e) => e.fwhm_px)).toEqual([3.1, null, 2.9]);
  expect(exposures[2]?.mid_utc).toBe("2026-09-21T00:00:00.000");
  expect(exposures[0]?.mid_utc).toBe("2026-09-20T20:10:30.000");
  expect(reference).toBe(8);
});

test("a campaign without exposures has no rows", () => {
  const nothing = { count: 0, columns: { id: [] }, reference: null, reference_words: "", parts: 4 };
  expect(exposuresOf(nothing).exposures).toEqual([]);
});
