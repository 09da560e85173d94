import { create } from "zustand";

/** How the curve is looked at. */
interface CurveView {
  fold: boolean;
  period: string;
  raw: boolean;
}

export const useShown = create<CurveView>()(() => ({ fold: false, period: "", raw: false }));
