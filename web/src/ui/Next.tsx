import { saveSettings, startJob } from "../api/actions";
import type { Campaign } from "../api/types";
import { useChoice } from "../stages/intake/choice";
import { useApp, type StageKey } from "../state";
import { Button } from "./Button";

/** The one next thing to do, what it needs, and what lies at hand for it: on every screen. */
export function Next({ campaign }: { campaign: Campaign }) {
  const stage = useApp((s) => s.stage);
  const set = useApp((s) => s.set);
  const { next } = campaign;
  const asked = campaign.stages.find((one) => one.key === "intake")?.count ?? 0;
  const there = next.stage === stage && !(stage === "intake" && asked > 0);
  const act = () => {
    if (next.job) void startJob(next.job);
    else set({ stage: next.stage as StageKey, master: null });
    if (next.stage === "intake" && asked > 0)
      useChoice.setState({ kept: "questions", stack: null });
  };
  return (
    <section
      aria-label="next"
      data-testid="next"
      className="border-b border-line py-2.5 pr-3 pl-1.5"
    >
      <p>
        <span className="font-semibold">Next </span>
        {next.words}
      </p>
      <div className="flex flex-wrap gap-2">
        {next.offers.map((offer, n) => (
          <Button
            key={offer.words}
            main={n === 0}
            className="mt-2"
            onClick={() =>
              void saveSettings(
                offer.catalogue_file
                  ? { catalogue_file: offer.catalogue_file }
                  : { cone_url: offer.cone_url },
              )
            }
          >
            Use {offer.words}
          </Button>
        ))}
        {next.button && (next.job || !there) && (
          <Button main={!next.offers.length} className="mt-2" onClick={act}>
            {next.button}
          </Button>
        )}
      </div>
    </section>
  );
}
