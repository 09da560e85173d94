/** How a finder chart is drawn; numbers as they are typed. */
export interface ChartLook {
  over: "catalogue" | "exposure";
  width: string;
  up: string;
  mirrored: boolean;
}

export const USUAL_CHART: ChartLook = { over: "catalogue", width: "15", up: "0", mirrored: false };

const within = (text: string, low: number, high: number, usual: number) => {
  const value = Number(text.replace(",", ".").replace("−", "-"));
  return text.trim() && Number.isFinite(value) ? Math.min(Math.max(value, low), high) : usual;
};

/** Where the chart is; an exposure that is not placed gives none of its own. */
export function chartAddress(
  campaign: number,
  kind: string,
  look: ChartLook,
  filter: string,
  exposure: number | null,
): string {
  const query = new URLSearchParams({
    width: String(within(look.width, 1, 600, 15)),
    up: String(within(look.up, -360, 360, 0)),
    mirrored: String(look.mirrored),
  });
  if (filter) query.set("filter", filter);
  if (look.over === "exposure" && exposure !== null) query.set("file", String(exposure));
  return `/api/campaigns/${campaign}/finder.${kind}?${query.toString()}`;
}
