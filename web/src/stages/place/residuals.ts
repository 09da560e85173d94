import type { Catalogue, Exposure, MeasuredStars } from "../../api/types";

export type Against = "magnitude" | "colour" | "radius";

export interface Residual {
  /** What it is drawn against: a magnitude, a colour index, or pixels from the middle. */
  at: number;
  /** How far the star sits from its place, in pixels. */
  away: number;
}

const LEAST_SNR = 40;

/** The residuals of an exposure's stars against what may be behind them, from left to right. */
export function residualsOf(
  measured: MeasuredStars,
  catalogue: Catalogue,
  exposure: Exposure,
  against: Against,
): Residual[] {
  const place = new Map(catalogue.row.map((row, i) => [row, i]));
  const [first, second] = Object.values(catalogue.magnitudes);
  return measured.row
    .flatMap((row, n) => {
      if ((measured.snr[n] ?? 0) < LEAST_SNR) return [];
      const [x, y] = [measured.predicted_x_px[n]!, measured.predicted_y_px[n]!];
      const away = Math.hypot(measured.x_px[n]! - x, measured.y_px[n]! - y);
      const i = place.get(row);
      const at =
        against === "radius"
          ? Math.hypot(x - (exposure.width - 1) / 2, y - (exposure.height - 1) / 2)
          : against === "magnitude"
            ? measured.magnitude[n]
            : i === undefined || first?.[i] == null || second?.[i] == null
              ? null
              : first[i]! - second[i]!;
      return at == null ? [] : [{ at, away }];
    })
    .sort((a, b) => a.at - b.at);
}

/** Medians of the residuals in so many parts with as many stars each. */
export function medians(residuals: readonly Residual[], parts: number): Residual[] {
  const each = Math.max(Math.floor(residuals.length / parts), 1);
  return Array.from({ length: Math.min(parts, residuals.length) }, (_, k) => {
    const own = residuals.slice(k * each, k === parts - 1 ? undefined : (k + 1) * each);
    const middle = (values: number[]) => values.sort((a, b) => a - b)[values.length >> 1]!;
    return { at: middle(own.map((r) => r.at)), away: middle(own.map((r) => r.away)) };
  });
}
