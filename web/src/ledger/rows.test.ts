import { describe, expect, it } from "vitest";
import type { Exposure, FieldStar } from "../api/types";
import { campaign, curve, exposure } from "../tests/builders";
import { EXPOSURE_COLUMNS } from "./ExposureLedger";
import { pointRows } from "./PointLedger";
import { bestFirst, partOf, starColumns } from "./StarLedger";
import { cellText } from "./table";

describe("ledgers of stars and points", () => {
  it("say which part a star has, and its numbers in their units", () => {
    const own = campaign();
    const { target, comparison } = own.cast!;
    expect(partOf(own, target)).toBe("target");
    expect(partOf(own, comparison[0]!)).toBe("comparison 1");
    expect(partOf(own, 99999)).toBe("");
    const star = {
      row: comparison[0]!, name: "Foxglove 11", score: 41.6, off_mag: -0.0124, peak_share: 0.312,
      edge_px: null,
    } as FieldStar; // prettier-ignore
    const cells = Object.fromEntries(
      starColumns(own, "B-V").map((c) => [c.key, () => cellText(c, star)]),
    );
    const shown = ["part", "score", "off", "peak", "edge"].map((key) => cells[key]!());
    expect(shown).toEqual(["comparison 1", "42", "−12", "31", ""]);
    const other = { ...star, row: 99999, score: 90 };
    expect(bestFirst(own, [other, star]).map((s) => s.row)).toEqual([star.row, 99999]);
    expect(starColumns(own, "B-V").find((c) => c.key === "colour")!.words).toBe("B − V");
  });

  it("put the points in order of time, each with its exposure and both magnitudes", () => {
    const made = curve();
    const exposures = made.filters[0]!.file_ids.map((id) => exposure(id)) as Exposure[];
    const rows = pointRows(made, exposures);
    expect(rows.map((r) => r.jd)).toEqual([...rows.map((r) => r.jd)].sort((a, b) => a - b));
    expect(rows[0]).toMatchObject({ magnitude: 12, standard: 12.05, filter: "V", state: "good" });
    expect(rows[0]!.name).toContain("foxglove");
  });

  it("tell times so that they sort over months and years, and can be read without the page", () => {
    const moments = ["2026-12-31T23:58:00", "2026-09-30T21:05:09.5", "2027-01-02T00:10:00"];
    const time = EXPOSURE_COLUMNS.find((c) => c.key === "time")!;
    const cells = moments.map((mid_utc) => cellText(time, { ...exposure(1), mid_utc } as Exposure));
    expect(cells.toSorted()).toEqual([cells[1], cells[0], cells[2]]);
    expect(cells[1]).toBe("2026-09-30 21:05:09");
  });
});
