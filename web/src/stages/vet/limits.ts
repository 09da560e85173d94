import type { Exposure } from "../../api/types";
import type { Quality } from "../../state";

export interface Limit {
  quality: Quality;
  side: "above" | "below";
  value: number;
}

/** The exposures that take part and lie beyond any of the limits. */
export function dropped(exposures: readonly Exposure[], limits: readonly Limit[]): Exposure[] {
  return exposures.filter(
    (e) =>
      !e.aside_by &&
      !e.trouble &&
      limits.some(({ quality, side, value }) => {
        const own = e[quality];
        return own !== null && (side === "above" ? own > value : own < value);
      }),
  );
}
