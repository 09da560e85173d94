import { expect, it } from "vitest";
import type { Pointed } from "../../api/types";
import { asTable, calledAt, detail } from "./list";

const star: Pointed = {
  id: 1,
  file_id: 4,
  exposure: "raw/a,b.fits",
  filter: "V",
  name: "",
  x_px: 11.25,
  y_px: 7,
  ra_deg: null,
  dec_deg: null,
  counts_adu: 5321.5,
  uncertainty_adu: 41,
  snr: 129.8,
  sky_adu_per_px: 210,
  peak_adu: 620,
  fwhm_px: null,
  radius_px: 5.25,
  magnitude: null,
  magnitude_uncertainty: null,
  band: "",
  stars: 0,
};

it("calls a star by its name, else by where it stands", () => {
  expect(calledAt(star)).toBe("x 12.3  y 8.0");
  expect(calledAt({ ...star, name: "Larkspur 7" })).toBe("Larkspur 7");
});

it("says in figures what is there, or that nothing is", () => {
  expect(detail(star)).toBe("S/N 130 · sky 210 · peak 620");
  expect(detail({ ...star, fwhm_px: 2.96, magnitude: 12 })).toBe(
    "S/N 130 · 2.96 px · sky 210 · 5322 ADU",
  );
  expect(detail({ ...star, snr: 1.44 })).toBe("no star: S/N 1.4 · sky 210");
});

it("writes the list as a table, positions counted from 1 and nothing where nothing is known", () => {
  const [head, row] = asTable([star], ",").split("\n");
  expect(head!.split(",").slice(0, 5)).toEqual(["exposure", "filter", "name", "x_px", "y_px"]);
  expect(row).toBe('"raw/a,b.fits",V,,12.25,8,,,5321.5,41,129.8,210,620,,5.25,,,,0');
  expect(asTable([star], "\t").split("\n")[1]!.split("\t")[0]).toBe("raw/a,b.fits");
});
