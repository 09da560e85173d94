import { startJob } from "../api/actions";
import { useCampaign, useExposures, usePlacement } from "../api/queries";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { Fact, Section } from "../ui/parts";
import { PointingSection } from "./pointing/PointingSection";
import { ResidualSection } from "./place/ResidualSection";
import { StarSection } from "./place/StarSection";
import { declination, fixed, oneIn, plural, rightAscension, shortName } from "../ui/words";

export function PlaceBench() {
  const id = useApp((s) => s.campaign);
  const beam = useApp((s) => s.beam);
  const set = useApp((s) => s.set);
  const { data: campaign } = useCampaign(id);
  const { data } = useExposures(id);
  const { data: placement } = usePlacement(id, beam);
  const stage = campaign?.stages.find((s) => s.key === "place");
  const exposures = data?.exposures ?? [];
  const failed = exposures.filter((e) => e.trouble);
  const missing = exposures.filter((e) => !e.placed && !e.trouble);
  if (!stage) return null;
  return (
    <>
      <Section title="Where the night is on the sky">
        <p className="mb-2">
          {missing.length
            ? `${plural(missing.length, "exposure")} to place against ${campaign?.catalogue?.name ?? "the catalogue"}.`
            : `${exposures.length - failed.length} of ${exposures.length} exposures are placed.`}
        </p>
        <div className="flex flex-wrap gap-2">
          <Button
            disabled={stage.state === "waiting" || stage.state === "working"}
            onClick={() => void startJob("place")}
          >
            {missing.length ? "Place the night" : "Place what changed"}
          </Button>
          {!missing.length && (
            <Button onClick={() => set({ stage: "measure" })}>Next: Measure</Button>
          )}
        </div>
        {stage.state === "waiting" && <p className="mt-1 text-beam">{stage.words}</p>}
      </Section>
      {placement && (
        <Section title="This exposure" aside={placement.how}>
          {placement.trouble && (
            <p className="mb-1 border-l-2 border-trouble pl-2">{placement.trouble}.</p>
          )}
          <p className="mb-2">{placement.words}</p>
          {placement.scale_arcsec_per_px !== null && (
            <dl>
              <Fact name="middle">
                {rightAscension(placement.ra_deg ?? 0)}
                <br />
                {declination(placement.dec_deg ?? 0)}
              </Fact>
              <Fact name="scale">{fixed(placement.scale_arcsec_per_px, 4, "″ a pixel")}</Fact>
              <Fact name="turned">{fixed(placement.rotation_deg, 2, "°")}</Fact>
              <Fact name="stars that coincide">
                {placement.matched} of {placement.compared}
              </Fact>
              <Fact name="they miss by">
                {fixed(placement.residual_px, 2, "px")} · {fixed(placement.residual_arcsec, 2, "″")}
              </Fact>
              <Fact name="chance that it is false">{oneIn(placement.false_log10)}</Fact>
            </dl>
          )}
          {placement.scale_arcsec_per_px !== null && (
            <p className="mt-2 text-small text-quiet">
              Open arcs: catalogue. Arrows: how far each measured star sits from its place, 200
              times enlarged.
            </p>
          )}
        </Section>
      )}
      <StarSection />
      <PointingSection />
      {placement?.scale_arcsec_per_px != null && <ResidualSection />}
      {failed.length > 0 && (
        <Section title="Could not be placed" aside={String(failed.length)}>
          {failed.map((e) => (
            <div key={e.id} className="border-t border-line py-1 first:border-t-0">
              <button
                className={e.id === beam ? "text-beam" : "hover:text-beam"}
                onClick={() => set({ beam: e.id })}
              >
                {shortName(e.name)}
              </button>
              <p className="text-small text-quiet">{e.trouble}</p>
            </div>
          ))}
        </Section>
      )}
    </>
  );
}
