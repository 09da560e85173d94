import type { NamesRead } from "../../api/types";
import { seconds } from "../../ui/words";

export type NameRead = NamesRead["files"][number];

const SHOWN = 4;

/** How many names say what: "dark × 10, flat × 8"; starts by the first and the last. */
export function tally(read: readonly NameRead[]): { name: string; values: string }[] {
  const counted = (values: (string | null)[]): string => {
    const counts = new Map<string, number>();
    for (const value of values) if (value !== null) counts.set(value, (counts.get(value) ?? 0) + 1);
    const most = [...counts].sort((a, b) => b[1] - a[1]);
    const words = most.slice(0, SHOWN).map(([value, count]) => `${value} × ${count}`);
    return [...words, ...(most.length > SHOWN ? [`${most.length - SHOWN} more`] : [])].join(", ");
  };
  const starts = read.flatMap((f) => f.time_utc ?? []).sort();
  const clock = (text: string | undefined) => text?.replace("T", " ").slice(5, 19) ?? "";
  return [
    { name: "kind", values: counted(read.map((f) => f.kind)) },
    { name: "filter", values: counted(read.map((f) => f.filter)) },
    {
      name: "exposure",
      values: counted(read.map((f) => (f.exposure_s === null ? null : seconds(f.exposure_s)))),
    },
    ...(["temperature_c", "gain_setting", "offset_setting", "camera"] as const).map((key) => ({
      name: {
        temperature_c: "°C",
        gain_setting: "gain",
        offset_setting: "offset",
        camera: "camera",
      }[key],
      values: counted(read.map((f) => (f[key] === null ? null : String(f[key])))),
    })),
    {
      name: "start, UTC",
      values: [...new Set([clock(starts[0]), clock(starts.at(-1))])].join(" to "),
    },
  ].filter((row) => row.values);
}
