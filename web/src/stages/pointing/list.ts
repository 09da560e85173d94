import type { Pointed } from "../../api/types";
import { fixed } from "../../ui/words";

/** What a star that was pointed at is called: its name, else where it stands, counted from 1. */
export function calledAt(star: Pointed): string {
  return star.name || `x ${fixed(star.x_px + 1, 1)}  y ${fixed(star.y_px + 1, 1)}`;
}

const COLUMNS = [
  "exposure", "filter", "name", "x_px", "y_px", "ra_deg", "dec_deg", "counts_adu",
  "uncertainty_adu", "snr", "sky_adu_per_px", "peak_adu", "fwhm_px", "radius_px", "magnitude",
  "magnitude_uncertainty", "band", "stars",
] as const; // prettier-ignore

/** The list as a table of text; positions count from 1, as in files. */
export function asTable(stars: readonly Pointed[], separator: string): string {
  const cell = (star: Pointed, key: (typeof COLUMNS)[number]) => {
    const value = key === "x_px" || key === "y_px" ? star[key] + 1 : star[key];
    const text = value === null ? "" : String(value);
    return separator === "," && /[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  const rows = stars.map((star) => COLUMNS.map((key) => cell(star, key)).join(separator));
  return [COLUMNS.join(separator), ...rows].join("\n") + "\n";
}

const LEAST_SNR = 3;

/** The figures under a star's name; where nothing stands out of the sky, that. */
export function detail(star: Pointed): string {
  const sky = `sky ${fixed(star.sky_adu_per_px, 0)}`;
  if (star.snr < LEAST_SNR) return `no star: S/N ${fixed(star.snr, 1)} · ${sky}`;
  const parts = [
    `S/N ${fixed(star.snr, star.snr < 10 ? 1 : 0)}`,
    star.fwhm_px !== null && fixed(star.fwhm_px, 2, "px"),
    sky,
    star.magnitude !== null && `${fixed(star.counts_adu, 0)} ADU`,
    star.fwhm_px === null && star.magnitude === null && `peak ${fixed(star.peak_adu, 0)}`,
  ];
  return parts.filter(Boolean).join(" · ");
}
