import { create } from "zustand";
import type { Peak } from "../../api/types";

/** On the standard scale where that is known, as measured against the comparison stars, as the
 * instrument gives them; or the colour index. */
export type Magnitudes = "standard" | "own" | "raw" | "colour";

/** Over time; night above night; over phase; times of minimum and maximum; the field's others. */
export type View = "time" | "nights" | "phase" | "turns" | "others";

/** Views of the target's points, to which filters and scales of magnitudes belong. */
export const DRAWN = new Set<View>(["time", "nights", "phase"]);

export type Shape = "any" | "waves" | "eclipses";

/** How the curve is looked at. */
interface CurveView {
  view: View;
  period: string;
  scale: Magnitudes;
  /** What is searched for periods: shapes, and limits in days as they were typed. */
  shape: Shape;
  shortest: string;
  longest: string;
  /** Periods that are taken off before others are searched, the first found first. */
  without: number[];
  /** Points are means of so many hundredths of a cycle; 0: each by itself. */
  bins: number;
  /** Over time, points are means of so many minutes; 0: each by itself. */
  means: number;
  /** Whose points are searched for periods: one's own, those from elsewhere, or both. */
  of: "own" | "both" | "others";
  /** How times of minimum are told. */
  dates: "bjd" | "hjd";
  /** Whether each filter is shown about its own middle, so that they lie together. */
  together: boolean;
}

export const useShown = create<CurveView>()(() => ({
  view: "time",
  period: "",
  scale: "standard",
  shape: "any",
  shortest: "",
  longest: "",
  without: [],
  bins: 0,
  means: 0,
  of: "own",
  dates: "bjd",
  together: false,
}));

/** A number as an observer types it; NaN where it is none. */
export const typed = (text: string): number =>
  text.trim() === "" ? NaN : Number(text.replace(",", "."));

/** A period with as many digits as its uncertainty deserves. */
export function periodWords(period: number, uncertainty: number): string {
  const digits =
    uncertainty > 0 ? Math.min(Math.max(1 - Math.floor(Math.log10(uncertainty)), 2), 9) : 6;
  return period.toFixed(digits);
}

/** The found period that a field shows: as it was written there, with its digits, or as good as it. */
export const peakShown = (peaks: readonly Peak[] | undefined, text: string): Peak | undefined =>
  peaks?.find(
    (peak) =>
      text === periodWords(peak.period_d, peak.uncertainty_d) ||
      Math.abs(typed(text) / peak.period_d - 1) < 1e-5,
  );
