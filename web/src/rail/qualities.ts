/** What the rail's lines and the observer's limits are about. */
import { useMemo } from "react";
import { useVetting } from "../api/queries";
import { useApp, type Quality } from "../state";

export interface QualityWords {
  words: string;
  unit: string;
  digits: number;
  /** As a limit calls it; nothing where it cannot have one. */
  limit?: string;
  /** The side on which exposures are bad. */
  side: "above" | "below";
}

export const QUALITIES: Record<Quality, QualityWords> = {
  fwhm_px: { words: "star width", unit: "px", digits: 1, limit: "star width", side: "above" },
  elongation: { words: "elongation", unit: "", digits: 2, limit: "elongation", side: "above" },
  stars: { words: "stars", unit: "", digits: 0, limit: "stars", side: "below" },
  sky_adu_per_px: { words: "sky", unit: "ADU", digits: 0, limit: "sky", side: "above" },
  slope: { words: "sky gradient", unit: "", digits: 3, side: "above" },
  transparency: { words: "transparency", unit: "", digits: 2, limit: "light", side: "below" },
  noise: { words: "noise", unit: "× expected", digits: 2, limit: "noise", side: "above" },
  saturated: { words: "saturated", unit: "share", digits: 5, side: "above" },
  drift_px: { words: "drift", unit: "px", digits: 1, side: "above" },
  turn_deg: { words: "turn", unit: "°", digits: 2, side: "above" },
  scale_ppm: { words: "scale", unit: "ppm", digits: 0, side: "above" },
  zero_point: { words: "zero point", unit: "mag", digits: 2, side: "below" },
  airmass: { words: "airmass", unit: "", digits: 2, limit: "airmass", side: "above" },
};

export const LIMITED = (Object.keys(QUALITIES) as Quality[]).filter((q) => QUALITIES[q].limit);

/** The observer's limits as the rail draws them. */
export function useLimits(): { quality: Quality; value: number }[] {
  const { data } = useVetting(useApp((s) => s.campaign));
  return useMemo(
    () =>
      (data?.limits ?? []).flatMap((limit) => {
        const quality = LIMITED.find((q) => QUALITIES[q].limit === limit.quality);
        const value = limit.above ?? limit.below;
        return quality && value != null ? [{ quality, value }] : [];
      }),
    [data],
  );
}
