/** What the server would tell of a small made-up campaign, for tests of the page. */
import type {
  Campaign,
  Catalogue,
  Curve,
  Exposure,
  Exposures,
  FileRow,
  MeasuredStars,
  Stage,
  Vetting,
} from "../api/types";

const DAY = 2461326.25;

/** An exposure a few minutes after the one before, as good as any. */
export function exposure(id: number, values: Partial<Exposure> = {}): Exposure {
  return {
    id,
    name: `night/raw/foxglove-${String(id).padStart(3, "0")}.fits`,
    night: 1,
    filter: "V",
    jd_utc: DAY + (id * 4) / 1440,
    mid_utc: "2026-09-20T20:10:30",
    exposure_s: 60,
    chain: "60 s V",
    version: "",
    airmass: 1.2,
    fwhm_px: 3,
    elongation: 1.05,
    angle_deg: 40,
    slope: 0.01,
    saturated: 0,
    noise: 1,
    turn_deg: 0,
    scale_ppm: 0,
    match: "",
    trails: [],
    shaded: [],
    stars: 100,
    sky_adu_per_px: 90,
    transparency: 0.9,
    zero_point: 20,
    drift_px: 0,
    plane: [-1.2, 0, 384, 0, 1.2, -288],
    width: 640,
    height: 480,
    kit: "Kittiwake 800, 640 × 480",
    placed: true,
    measured: true,
    trouble: "",
    aside: "",
    aside_by: "",
    proposal: "",
    ...values,
  };
}

export const night = (count: number): Exposures => ({
  exposures: Array.from({ length: count }, (_, i) => exposure(i + 1)),
  reference: 1,
  reference_words: "100 stars",
  parts: 4,
});

const RULES = { width: 1.6, elongation: 1.45, light: 0.5, sky: 5, shade: 0.4 };

/** Rules as usual, and no limits yet. */
export const vetting = (values: Partial<Vetting> = {}): Vetting => ({
  rules: RULES,
  usual: RULES,
  limits: [],
  qualities: { "star width": "px" },
  reference: 1,
  reference_by: "program",
  reference_words: "100 stars",
  ...values,
});

export function stage(key: string, values: Partial<Stage> = {}): Stage {
  return { key, state: "done", count: 0, words: "fine", remarks: 0, ...values };
}

const KEYS = ["intake", "correct", "vet", "place", "cast", "measure", "curve", "report"];

/** A reduced campaign; `stages` replaces some of the stages' states. */
export function campaign(
  values: Partial<Campaign> = {},
  stages: Partial<Record<string, Partial<Stage>>> = {},
): Campaign {
  return {
    id: 1,
    name: "Foxglove 7",
    revision: 4,
    folders: ["/nights/foxglove/raw"],
    target: { name: "Foxglove 7", ra_deg: 341.2, dec_deg: 41.6, sure: true, row: 0 },
    sequence: null,
    targets: [{ name: "Foxglove 7", place: 0, in_front: true }],
    site: { latitude_deg: 61.2, longitude_deg: -9.4, elevation_m: 140 },
    kit: {
      gain_e_per_adu: 1.3,
      read_noise_e: 7.1,
      linear_limit_adu: 52000,
      aperture_m: 0.28,
      scale_arcsec_per_px: 1.2,
      timestamp: "start",
      clock_offset_s: 0,
    },
    default_filter: null,
    pattern: null,
    shelf: false,
    watch: { watching: false, last: null, file_id: null, worse: [] },
    catalogue: {
      id: 1,
      name: "field.vot",
      origin: "field.vot",
      stars: 5,
      bands: ["B", "V"],
      path: "/nights/field.vot",
      fetched: null,
    },
    cone_url: null,
    served_by: [],
    merge: false,
    columns: {},
    cast: {
      version: 1,
      target: 0,
      comparison: [1, 2],
      checks: [3],
      reasons: {},
      dropped: {},
      automatic: true,
    },
    recipe: { version: 1, steps: { V: 5 }, automatic: true },
    library: null,
    epoch_yr: null,
    bands: {},
    bands_found: { V: "V" },
    measuring: { radius: "auto", annulus: [3.5, 5.5], annulus_in_pixels: false },
    archived: false,
    kits: ["Kittiwake 800, 640 × 480"],
    next: {
      stage: "report",
      words: "Hand it in.",
      button: "Go to the report",
      job: "",
      offers: [],
    },
    layout: "plain",
    doubtful: false,
    floor: false,
    transform: { apply: true, given: {}, extinction: {}, second_order: {}, colour: null },
    stages: KEYS.map((key) => stage(key, stages[key])),
    nights: [{ id: 1, evening: "2026-09-20" }],
    filters: ["V"],
    remarks: [],
    constants: {},
    undo: null,
    redo: null,
    ...values,
  };
}

export function file(id: number, values: Partial<FileRow> = {}): FileRow {
  return {
    id,
    name: `raw/foxglove-${String(id).padStart(3, "0")}.fits`,
    part: "exposure",
    part_reason: "",
    kind: "exposure",
    filter: "V",
    exposure_s: 60,
    time_utc: "2026-09-20 20:10:30",
    temperature_c: -10,
    night: "2026-09-20",
    correction: {},
    question: false,
    ...values,
  };
}

/** Five stars on a line to the east, a minute of arc apart. */
export const catalogue = (): Catalogue => ({
  row: [0, 1, 2, 3, 4],
  name: [7, 11, 12, 13, 14].map((n) => `Foxglove ${n}`),
  ra_deg: [341.2, 341.22, 341.24, 341.26, 341.28],
  dec_deg: [41.6, 41.6, 41.6, 41.6, 41.6],
  east_arcsec: [0, 60, 120, 180, 240],
  north_arcsec: [0, 0, 0, 0, 0],
  magnitudes: { V: [12, 11.5, 12.2, 12.4, null], B: [12.6, 12, 12.9, 13, null] },
  known_variable: [true, false, false, false, false],
  note: ["EA, 1.25 d", "", "", "", ""],
  parallax_mas: [null, 2.5, null, null, null],
  pm_arcsec_yr: [0.01, 0.2, 0, 0, 0],
});

export const measured = (): MeasuredStars => ({
  row: [0, 1],
  x_px: [320, 270.5],
  y_px: [240, 240.25],
  predicted_x_px: [320, 270],
  predicted_y_px: [240, 240],
  magnitude: [12.031, 11.502],
  snr: [210, 330],
  peak_adu: [8000, 14000],
  flags: ["", "saturated"],
  radius_px: 4.8,
  annulus_px: [10.5, 16.5],
});

/** Target, check and two comparison stars over some exposures. */
export function curve(magnitudes: (number | null)[] = [12, 12.4, 12.1]): Curve {
  const ids = magnitudes.map((_, i) => i + 1);
  const series = (role: "target" | "check" | "comparison", name: string, base: number) => ({
    row: ids.length,
    name,
    role,
    known_magnitude: base,
    weight: role === "comparison" ? 0.5 : null,
    magnitude: role === "target" ? magnitudes : ids.map((_, i) => base + 0.01 * (i % 2)),
    uncertainty: ids.map(() => 0.004),
    instrumental: role === "comparison" ? [] : ids.map(() => base - 20),
    flags: {},
    doubtful: [],
    limit: {},
  });
  return {
    revision: 4,
    filters: [
      {
        filter: "V",
        band: "V",
        file_ids: ids,
        jd_utc: ids.map((id) => DAY + (id * 4) / 1440),
        bjd_tdb: ids.map((id) => DAY + 0.005 + (id * 4) / 1440),
        airmass: ids.map(() => 1.2),
        zero_point: ids.map(() => 20),
        zero_point_uncertainty: ids.map(() => 0.001),
        transparency: ids.map(() => 0.9),
        radius_px: [4.8, 5.2],
        step: 5,
        scatter_check_mag: 0.005,
        expected_check_mag: 0.0048,
        common_offset_mag: 0.002,
        floor_mag: 0.001,
        taken: "",
        series: [
          series("target", "Foxglove 7", 12),
          series("check", "Foxglove 13", 12.4),
          series("comparison", "Foxglove 11", 11.5),
          series("comparison", "Foxglove 12", 12.2),
        ],
        standard: {
          magnitude: ids.map(() => 12.05),
          uncertainty: ids.map(() => 0.006),
          colour: ids.map(() => 0.62),
          index: "B-V",
          common_mag: 0.0012,
        },
      },
    ],
    problems: [],
    cast: campaign().cast,
    recipe: campaign().recipe,
  };
}
