import { create } from "zustand";

/** On the standard scale where that is known, as measured against the comparison stars, or as the
 * instrument gives them. */
export type Magnitudes = "standard" | "own" | "raw";

/** How the curve is looked at. */
interface CurveView {
  fold: boolean;
  period: string;
  scale: Magnitudes;
}

export const useShown = create<CurveView>()(() => ({ fold: false, period: "", scale: "standard" }));
