import { extent } from "../../charts/extent";
import { useMemo, useState } from "react";
import { changeVetting } from "../../api/actions";
import { useCampaign, useVetting } from "../../api/queries";
import type { Exposure, LimitIn } from "../../api/types";
import { LIMITED, QUALITIES } from "../../rail/qualities";
import { useApp, type Quality } from "../../state";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";
import { fixed, plural } from "../../ui/words";
import { dropped, type Limit } from "./limits";

/** Limits on the quality of exposures: tried first, with what they would drop, then kept. */
export function LimitsSection({ exposures }: { exposures: Exposure[] }) {
  const id = useApp((s) => s.campaign);
  const beam = useApp((s) => s.beam);
  const set = useApp((s) => s.set);
  const { data } = useVetting(id);
  const { data: campaign } = useCampaign(id);
  const [typed, setTyped] = useState<Partial<Record<Quality, string>>>({});
  const [where, setWhere] = useState<"all" | "filter" | "night">("all");
  const here = exposures.find((e) => e.id === beam);
  const evening = campaign?.nights.find((n) => n.id === here?.night)?.evening ?? "";
  const kept = data?.limits ?? [];
  const [filter, night] = [here?.filter, here?.night];
  const some = useMemo(
    () =>
      where === "all"
        ? exposures
        : exposures.filter((e) => (where === "filter" ? e.filter === filter : e.night === night)),
    [exposures, where, filter, night],
  );
  const extents = useMemo(() => extentsOf(some), [some]);
  const tried: Limit[] = LIMITED.flatMap((quality) => {
    const value = Number((typed[quality] ?? "").replace("−", "-").replace(",", "."));
    return typed[quality]?.trim() && Number.isFinite(value)
      ? [{ quality, side: QUALITIES[quality].side, value }]
      : [];
  });
  const all = dropped(some, tried);

  const plain = (): LimitIn[] =>
    kept.map(({ quality, above, below, filter, night }) => ({
      quality,
      above,
      below,
      filter,
      night,
    }));
  const keep = () => {
    const next: LimitIn[] = tried.map(({ quality, side, value }) => ({
      quality: QUALITIES[quality].limit!,
      above: side === "above" ? value : null,
      below: side === "below" ? value : null,
      filter: where === "filter" ? (here?.filter ?? "") : "",
      night: where === "night" ? evening : "",
    }));
    void changeVetting({ limits: [...plain(), ...next] });
    setTyped({});
  };

  return (
    <Section title="Limits" aside={kept.length ? `${kept.length} kept` : undefined}>
      {kept.map((limit, n) => (
        <div key={n} className="flex items-baseline gap-2 border-b border-line py-0.5">
          <span className="min-w-0">
            {limit.words}
            {(limit.filter || limit.night) && (
              <span className="text-quiet"> {[limit.filter, limit.night].join(" ").trim()}</span>
            )}
          </span>
          <span className="num ml-auto text-quiet">−{limit.drops}</span>
          <button
            className="min-h-6 text-beam"
            onClick={() => void changeVetting({ limits: plain().filter((_, m) => m !== n) })}
          >
            Lift
          </button>
        </div>
      ))}
      <table className="w-full">
        <tbody>
          {LIMITED.map((key) => {
            const q = QUALITIES[key];
            const range = extents.get(key);
            if (!range) return null;
            const worst = q.side === "above" ? range[1] : range[0];
            const own = tried.find((l) => l.quality === key);
            return (
              <tr key={key}>
                <td className="text-quiet">
                  {q.words} {q.side}
                </td>
                <td className="w-18 py-0.5">
                  <input
                    aria-label={`${q.words} ${q.side}`}
                    className="field num text-right"
                    placeholder={fixed(worst, q.digits)}
                    value={typed[key] ?? ""}
                    onFocus={() => set({ lines: [key] })}
                    onChange={(event) => setTyped({ ...typed, [key]: event.target.value })}
                  />
                </td>
                <td className="num w-14 pl-2 text-right whitespace-nowrap">
                  {own ? (
                    `−${dropped(some, [own]).length}`
                  ) : (
                    <span className="text-quiet">{q.unit}</span>
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {tried.length > 0 && (
        <select
          className="field mt-1.5"
          aria-label="for which exposures"
          value={where}
          onChange={(event) => setWhere(event.target.value as typeof where)}
        >
          <option value="all">for all nights and filters</option>
          {here && <option value="filter">for {here.filter} alone</option>}
          {evening && <option value="night">for the night of {evening} alone</option>}
        </select>
      )}
      <div className="mt-2 flex items-center gap-2">
        <Button disabled={!tried.length} onClick={keep}>
          {all.length ? `Keep, and set aside ${plural(all.length, "exposure")}` : "Keep"}
        </Button>
        <Button
          quiet
          disabled={!all.length}
          onClick={() => set({ selection: all.map((e) => e.id) })}
        >
          Show
        </Button>
      </div>
    </Section>
  );
}

/** The least and the largest value of each quality that can be limited, of what takes part. */
function extentsOf(exposures: Exposure[]): Map<Quality, [number, number]> {
  const own = exposures.filter((e) => !e.trouble && !e.aside_by);
  const found = new Map<Quality, [number, number]>();
  for (const key of LIMITED) {
    const values = own.map((e) => e[key]).filter((v): v is number => v !== null);
    if (values.length) found.set(key, extent(values));
  }
  return found;
}
