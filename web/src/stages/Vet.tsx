import { useState } from "react";
import { acceptProposals, setAside } from "../api/actions";
import { useExposures } from "../api/queries";
import type { Exposure } from "../api/types";
import { QUALITIES } from "../rail/RailLabels";
import { useApp, type Quality } from "../state";
import { Button } from "../ui/Button";
import { Section } from "../ui/parts";
import { fixed, plural, shortName } from "../ui/words";
import { CombineSection } from "./vet/CombineSection";
import { dropped, type Limit } from "./vet/limits";

const LIMITED: { key: Quality; side: "above" | "below" }[] = [
  { key: "fwhm_px", side: "above" },
  { key: "elongation", side: "above" },
  { key: "sky_adu_per_px", side: "above" },
  { key: "stars", side: "below" },
  { key: "transparency", side: "below" },
  { key: "airmass", side: "above" },
];

export function VetBench() {
  const id = useApp((s) => s.campaign);
  const playing = useApp((s) => s.playing);
  const set = useApp((s) => s.set);
  const { data } = useExposures(id);
  if (!data) return null;
  const exposures = data.exposures;
  const proposals = exposures.filter((e) => e.proposal);
  const aside = exposures.filter((e) => e.aside_by || e.trouble);
  const known = exposures.some((e) => e.fwhm_px !== null);
  return (
    <>
      <Section title="Look through the night">
        <div className="flex gap-2">
          <Button onClick={() => set({ playing: !playing })}>{playing ? "Stop" : "Play"}</Button>
          <Button onClick={() => set({ split: "first" })}>Beside the first</Button>
        </div>
        <p className="mt-1.5 text-small text-quiet">
          ← → step, Space plays, X sets aside or restores, Shift + arrows go to the next remark.
        </p>
      </Section>
      {proposals.length > 0 && (
        <Section title="Proposed to set aside" aside={String(proposals.length)}>
          {proposals.map((e) => (
            <Line key={e.id} e={e} words={e.proposal}>
              <button className="text-beam" onClick={() => void acceptProposals([e.id])}>
                Set aside
              </button>
              <button
                className="text-quiet hover:text-ink"
                onClick={() => void setAside([e.id], false)}
              >
                Keep
              </button>
            </Line>
          ))}
          <Button
            main
            className="mt-2"
            onClick={() => void acceptProposals(proposals.map((e) => e.id))}
          >
            Set aside all {proposals.length}
          </Button>
        </Section>
      )}
      {known ? (
        <Limits exposures={exposures} />
      ) : (
        <Section title="Limits">
          <p className="text-quiet">
            Star width, sky and the rest are measured when the exposures are placed.
          </p>
          <Button className="mt-2" onClick={() => set({ stage: "place" })}>
            Go to Place
          </Button>
        </Section>
      )}
      <Section title="Set aside" aside={String(aside.length)}>
        {exposures.length > 0 && !aside.length && (
          <p className="text-quiet">No exposure is set aside.</p>
        )}
        {aside.map((e) => (
          <Line key={e.id} e={e} words={e.trouble || e.aside}>
            {!e.trouble && (
              <button className="text-beam" onClick={() => void setAside([e.id], false)}>
                Restore
              </button>
            )}
          </Line>
        ))}
      </Section>
      {known && <CombineSection />}
    </>
  );
}

function Line({ e, words, children }: { e: Exposure; words: string; children?: React.ReactNode }) {
  const beam = useApp((s) => s.beam);
  const set = useApp((s) => s.set);
  return (
    <div className="border-t border-line py-1 first:border-t-0">
      <div className="flex gap-2">
        <button
          className={`min-w-0 truncate text-left ${e.id === beam ? "text-beam" : "hover:text-beam"}`}
          onClick={() => set({ beam: e.id, master: null })}
        >
          {shortName(e.name)}
        </button>
        <span className="ml-auto flex shrink-0 gap-2">{children}</span>
      </div>
      <p className="text-small text-quiet">{words}</p>
    </div>
  );
}

function Limits({ exposures }: { exposures: Exposure[] }) {
  const [limits, setLimits] = useState<Partial<Record<Quality, string>>>({});
  const set = useApp((s) => s.set);
  const chosen: Limit[] = LIMITED.flatMap(({ key, side }) => {
    const value = Number((limits[key] ?? "").replace("−", "-"));
    return (limits[key] ?? "").trim() !== "" && Number.isFinite(value)
      ? [{ quality: key, side, value }]
      : [];
  });
  const all = dropped(exposures, chosen);
  return (
    <Section title="Limits">
      <table className="w-full">
        <tbody>
          {LIMITED.map(({ key, side }) => {
            const q = QUALITIES[key];
            const values = exposures
              .filter((e) => !e.trouble && !e.aside_by)
              .map((e) => e[key])
              .filter((v): v is number => v !== null);
            const worst = side === "above" ? Math.max(...values) : Math.min(...values);
            const own = chosen.find((l) => l.quality === key);
            return (
              <tr key={key}>
                <td className="text-quiet">
                  {q.words} {side}
                </td>
                <td className="w-20 py-0.5">
                  <input
                    aria-label={`${q.words} ${side}`}
                    className="field num text-right"
                    placeholder={values.length ? fixed(worst, q.digits) : ""}
                    value={limits[key] ?? ""}
                    onFocus={() => set({ quality: key })}
                    onChange={(event) => {
                      const next = { ...limits, [key]: event.target.value };
                      setLimits(next);
                    }}
                  />
                </td>
                <td className="num w-14 pl-2 text-right">
                  {own ? (
                    `−${dropped(exposures, [own]).length}`
                  ) : (
                    <span className="text-quiet">{q.unit}</span>
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <div className="mt-2 flex items-center gap-2">
        <Button
          disabled={!all.length}
          onClick={() => {
            const words = chosen
              .map((l) =>
                `${QUALITIES[l.quality].words} ${l.side} ${l.value} ${QUALITIES[l.quality].unit}`.trim(),
              )
              .join(" or ");
            void setAside(
              all.map((e) => e.id),
              true,
              words,
            );
            setLimits({});
          }}
        >
          Set aside {plural(all.length, "exposure")}
        </Button>
        <Button disabled={!all.length} onClick={() => set({ selection: all.map((e) => e.id) })}>
          Show on the rail
        </Button>
      </div>
    </Section>
  );
}
