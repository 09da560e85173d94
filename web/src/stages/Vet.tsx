import { acceptProposals, setAside, startJob } from "../api/actions";
import { useExposures, useJobs } from "../api/queries";
import type { Exposure } from "../api/types";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { Section } from "../ui/parts";
import { shortName } from "../ui/words";
import { PointingSection } from "./pointing/PointingSection";
import { CombineSection } from "./vet/CombineSection";
import { LimitsSection } from "./vet/LimitsSection";
import { PlaySection } from "./vet/PlaySection";
import { ReferenceSection } from "./vet/ReferenceSection";
import { RulesSection } from "./vet/RulesSection";
import { byTrouble, detailOf } from "./vet/reasons";

export function VetBench() {
  const id = useApp((s) => s.campaign);
  const { data } = useExposures(id);
  if (!data) return null;
  const exposures = data.exposures;
  const alone = exposures.length === 1;
  const known = !alone && exposures.some((e) => e.fwhm_px !== null);
  return (
    <>
      {alone ? <PointingSection /> : <PlaySection />}
      <NotLooked count={exposures.filter((e) => e.fwhm_px === null && !e.trouble).length} />
      <Proposals exposures={exposures} />
      {known && <LimitsSection exposures={exposures} />}
      <SetAside exposures={exposures} />
      {known && <ReferenceSection exposures={exposures} />}
      {known && <RulesSection />}
      {known && <CombineSection />}
      {!alone && <PointingSection />}
    </>
  );
}

function NotLooked({ count }: { count: number }) {
  const { data } = useJobs(useApp((s) => s.campaign));
  if (!count) return null;
  const busy = data?.jobs.some((j) => j.state === "running" || j.state === "waiting");
  return (
    <Section title="Not looked at yet" aside={String(count)}>
      <p className="text-quiet">
        Star width, sky, light and how they lie on one another are told from the exposures
        themselves, without a catalogue.
      </p>
      <Button main className="mt-2" disabled={busy} onClick={() => void startJob("look")}>
        {busy ? "At work …" : "Look at them"}
      </Button>
    </Section>
  );
}

function Proposals({ exposures }: { exposures: Exposure[] }) {
  const proposals = exposures.filter((e) => e.proposal);
  if (!proposals.length) return null;
  return (
    <Section title="Proposed to set aside" aside={String(proposals.length)}>
      {byTrouble(proposals).map(([trouble, some]) => (
        <div key={trouble} className="border-t border-line py-1 first:border-t-0">
          <h3 className="flex items-baseline gap-2">
            <span className="font-semibold">{trouble}</span>
            <span className="num text-quiet">{some.length}</span>
            <span className="ml-auto flex shrink-0 gap-2">
              <button
                className="min-h-6 text-beam"
                onClick={() => void acceptProposals(some.map((e) => e.id))}
              >
                Set aside
              </button>
              <button
                className="min-h-6 text-quiet hover:text-ink"
                onClick={() =>
                  void setAside(
                    some.map((e) => e.id),
                    false,
                  )
                }
              >
                Keep
              </button>
            </span>
          </h3>
          {some.map((e) => (
            <Line key={e.id} e={e} words={detailOf(e.proposal)}>
              {some.length > 1 && (
                <>
                  <button
                    className="min-h-6 text-beam"
                    onClick={() => void acceptProposals([e.id])}
                  >
                    aside
                  </button>
                  <button
                    className="min-h-6 text-quiet hover:text-ink"
                    onClick={() => void setAside([e.id], false)}
                  >
                    keep
                  </button>
                </>
              )}
            </Line>
          ))}
        </div>
      ))}
      <Button
        main
        className="mt-2"
        onClick={() => void acceptProposals(proposals.map((e) => e.id))}
      >
        {proposals.length === 1 ? "Set it aside" : `Set aside all ${proposals.length}`}
      </Button>
    </Section>
  );
}

function SetAside({ exposures }: { exposures: Exposure[] }) {
  const aside = exposures.filter((e) => e.aside_by || e.trouble);
  return (
    <Section title="Set aside" aside={String(aside.length)}>
      {exposures.length > 0 && !aside.length && (
        <p className="text-quiet">No exposure is set aside.</p>
      )}
      {aside.map((e) => (
        <Line key={e.id} e={e} words={e.trouble || e.aside}>
          {!e.trouble && (
            <button className="min-h-6 text-beam" onClick={() => void setAside([e.id], false)}>
              Restore
            </button>
          )}
        </Line>
      ))}
    </Section>
  );
}

function Line({ e, words, children }: { e: Exposure; words: string; children?: React.ReactNode }) {
  const beam = useApp((s) => s.beam);
  const set = useApp((s) => s.set);
  return (
    <div className="py-0.5">
      <div className="flex items-baseline gap-2">
        <button
          className={`min-h-6 min-w-0 truncate text-left ${e.id === beam ? "text-beam" : "hover:text-beam"}`}
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
