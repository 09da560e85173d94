import { setRadius, startJob } from "../api/actions";
import { useCampaign, useExposures, useRadii, useStar } from "../api/queries";
import type { Radii, StarOnExposure } from "../api/types";
import { Chart } from "../charts/Chart";
import { Plate } from "../plate/Plate";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { FieldSection } from "./measure/FieldSection";
import { MeasuringSection } from "./measure/MeasuringSection";
import { Empty, Fact, Section } from "../ui/parts";
import { colour, dayOf, fixed } from "../ui/words";
import { RadiusChart } from "./measure/RadiusChart";
import { ScaleSection } from "./measure/ScaleSection";

/** The star that is looked at: the chosen one, else the target. */
function useSubject() {
  const id = useApp((s) => s.campaign);
  const star = useApp((s) => s.star);
  const beam = useApp((s) => s.beam);
  const wanted = useApp((s) => s.filter);
  const { data: campaign } = useCampaign(id);
  const { data: exposures } = useExposures(id);
  const exposure = exposures?.exposures.find((e) => e.id === beam);
  const row = star ?? campaign?.cast?.target ?? null;
  const filter = exposure?.filter || wanted || campaign?.filters[0] || "";
  const measured = exposure?.measured ?? false;
  const { data: radii } = useRadii(id, filter, campaign?.cast != null);
  const { data: subject, error } = useStar(id, measured ? row : null, measured ? beam : null);
  const tonight = radii?.nights.find((n) => n.night === exposure?.night);
  /** In pixels, as on the night of the exposure. */
  const radiiPx = tonight?.radii_px ?? radii?.radii_px ?? [];
  return { campaign, exposure, filter, radii, radiiPx, subject, error };
}

export function MeasureMain() {
  const { campaign, exposure, filter, radii, radiiPx, subject, error } = useSubject();
  const star = useApp((s) => s.star);
  const stage = campaign?.stages.find((s) => s.key === "measure");
  if (!campaign || !stage) return null;
  if (!campaign.cast)
    return (
      <Empty title="Measure every star once">
        <p>
          One pass over each exposure measures all stars of the catalogue at twelve radii. Stars and
          radius are chosen afterwards, and the curve answers at once.
        </p>
        <Button
          main
          className="self-start"
          disabled={stage.state === "waiting" || stage.state === "working"}
          onClick={() => void startJob("census")}
        >
          Measure the night
        </Button>
        {stage.state === "waiting" && <p className="text-beam">{stage.words}</p>}
      </Empty>
    );
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_minmax(0,1fr)] grid-rows-[minmax(0,1fr)_minmax(0,1.1fr)]">
      <div className="min-h-0 border-r border-b border-line">
        <Plate focus={star ?? campaign.cast.target} />
      </div>
      <div className="flex min-h-0 flex-col border-b border-line">
        {subject && radii ? (
          <Profile star={subject} step={radii.step} />
        ) : (
          <p className="p-4 text-quiet">
            {error?.message ??
              (exposure && !exposure.measured
                ? `${exposure.trouble || "This exposure is not measured"}. Move the beam to another.`
                : "Looking at the star …")}
          </p>
        )}
      </div>
      <div className="col-span-2 flex min-h-0 flex-col">
        {radii && (
          <RadiusChart
            radii={radii}
            radiiPx={radiiPx}
            star={subject}
            onStep={(step) => void setRadius(campaign.id, filter, step)}
          />
        )}
      </div>
    </div>
  );
}

function Profile({ star, step }: { star: StarOnExposure; step: number }) {
  const sky = star.sky_adu_per_px ?? 0;
  const reach = star.annulus_px[1] + 2;
  const values = star.profile_adu.map((v) => v - sky);
  const highest = Math.max(...values.slice(0, 20), 1);
  return (
    <Chart
      className="min-h-0 flex-1"
      testId="profile"
      x={[0, reach]}
      y={[-0.06 * highest, 1.08 * highest]}
      label="above sky, ADU"
      xLabel={`distance from ${star.name}, px`}
      xAxis
      draw={(ctx, place) => {
        const band = (from: number, to: number, tone: string, alpha: number) => {
          ctx.globalAlpha = alpha;
          ctx.fillStyle = colour(tone);
          ctx.fillRect(place.x(from), 0, place.x(to) - place.x(from), ctx.canvas.height);
          ctx.globalAlpha = 1;
        };
        band(0, star.radii_px[step]!, "--beam", 0.1);
        band(star.annulus_px[0], star.annulus_px[1], "--quiet", 0.12);
        ctx.fillStyle = colour("--ink");
        ctx.globalAlpha = 0.75;
        star.profile_radius_px.forEach((r, i) => {
          ctx.beginPath();
          ctx.arc(place.x(r), place.y(values[i]!), 1.3 * place.ratio, 0, 7);
          ctx.fill();
        });
        ctx.globalAlpha = 1;
        ctx.strokeStyle = colour("--beam");
        ctx.lineWidth = 1.5 * place.ratio;
        ctx.beginPath();
        ctx.moveTo(place.x(star.radii_px[step]!), 0);
        ctx.lineTo(place.x(star.radii_px[step]!), ctx.canvas.height);
        ctx.stroke();
        ctx.font = `${12 * place.ratio}px 'Atkinson Hyperlegible Next'`;
        ctx.fillStyle = colour("--quiet");
        const top = place.y(1.08 * highest) + 14 * place.ratio;
        const edge = place.x(star.radii_px[step]!);
        const inside = edge - place.x(0) > 64 * place.ratio;
        ctx.textAlign = inside ? "right" : "left";
        ctx.fillText("aperture", edge + (inside ? -6 : 6) * place.ratio, top);
        ctx.textAlign = "center";
        ctx.fillText("sky ring", place.x((star.annulus_px[0] + star.annulus_px[1]) / 2), top);
        ctx.textAlign = "left";
      }}
    />
  );
}

const PARTS = [
  ["star", "--beam", "star's own light"],
  ["sky", "--filter-b", "sky"],
  ["dark", "--filter-r", "dark"],
  ["read", "--check", "reading out"],
  ["masters", "--filter-i", "masters"],
  ["scintillation", "--comparison", "scintillation"],
] as const;

export function MeasureBench() {
  const { campaign, filter, radii, radiiPx, subject } = useSubject();
  const set = useApp((s) => s.set);
  if (!campaign) return null;
  if (!campaign.cast || !radii) return <MeasuringSection campaign={campaign} />;
  return (
    <>
      <Section title="Radius" aside={`in ${filter}`}>
        <p className="mb-2">
          <span className="num text-beam">{fixed(radiiPx[radii.step], 2, "px")}</span> ={" "}
          {radii.radii_fwhm[radii.step]} star widths of the night, for all stars in {filter}.
        </p>
        {radii.nights.length > 1 && (
          <p className="num mb-2 text-quiet">
            {radii.nights
              .map(({ night, radii_px }) => {
                const evening = campaign.nights.find((n) => n.id === night)?.evening ?? "";
                return `${dayOf(evening)} ${fixed(radii_px[radii.step], 2, "px")}`;
              })
              .join(" · ")}
          </p>
        )}
        <Best
          radii={radii}
          px={radiiPx}
          onTake={() => void setRadius(campaign.id, filter, radii.best)}
        />
      </Section>
      <ScaleSection key={filter} campaign={campaign} filter={filter} />
      {subject && <Budget star={subject} step={radii.step} />}
      <MeasuringSection campaign={campaign} />
      <FieldSection campaign={campaign} filter={filter} />
      <Section title="Census">
        <p className="mb-2 text-quiet">
          {campaign.stages.find((s) => s.key === "measure")?.words}. What is up to date is not
          measured again.
        </p>
        <div className="flex gap-2">
          <Button onClick={() => void startJob("census")}>Measure what changed</Button>
          <Button onClick={() => set({ stage: "curve" })}>Next: Curve</Button>
        </div>
      </Section>
    </>
  );
}

/** The radius that the night itself asks for, and why. */
function Best({ radii, px, onTake }: { radii: Radii; px: number[]; onTake: () => void }) {
  const scatter = radii.scatter_mag[radii.best];
  const snr = `signal to noise of the target ${fixed(radii.target_snr[radii.best], 0)}`;
  const why =
    scatter == null
      ? `the highest ${snr}`
      : `constant stars scatter by ${fixed(scatter * 1000, 1, "mmag")}, ${snr}`;
  if (radii.best === radii.step)
    return <p className="text-quiet">That is what the night itself asks for: {why}.</p>;
  return (
    <>
      <p className="mb-2 text-quiet">
        The night itself asks for {radii.radii_fwhm[radii.best]} star widths: {why}.
      </p>
      <Button onClick={onTake}>Take {fixed(px[radii.best], 2, "px")}</Button>
    </>
  );
}

/** Where the uncertainty comes from, as shares of its square. */
function Budget({ star, step }: { star: StarOnExposure; step: number }) {
  const budget = star.budgets[step]!;
  const squares = PARTS.map(([key]) => (budget[key] ?? 0) ** 2);
  const total = squares.reduce((a, b) => a + b, 0) || 1;
  return (
    <Section title={star.name} aside={`${fixed((budget.total_mag ?? 0) * 1000, 1)} mmag in all`}>
      <div className="mb-2 flex h-3 overflow-hidden rounded-[2px]" data-testid="budget">
        {PARTS.map(([key, tone, words], i) => (
          <div
            key={key}
            title={words}
            style={{ width: `${(100 * squares[i]!) / total}%`, background: `var(${tone})` }}
          />
        ))}
      </div>
      <dl>
        {PARTS.map(([key, tone, words], i) => (
          <Fact
            key={key}
            name={
              <span className="flex items-center gap-1.5">
                <i className="h-2 w-2" style={{ background: `var(${tone})` }} />
                {words}
              </span>
            }
          >
            {fixed((budget[key] ?? 0) * 1000, 2)} mmag · {((100 * squares[i]!) / total).toFixed(0)}%
          </Fact>
        ))}
        <Fact name="signal to noise">{fixed(star.snr[step], 0)}</Fact>
        <Fact name="peak">{fixed(star.peak_adu, 0, "ADU")}</Fact>
        <Fact name="sky">{fixed(star.sky_adu_per_px, 1, "ADU a pixel")}</Fact>
        {star.flags && <Fact name="flags">{star.flags}</Fact>}
      </dl>
    </Section>
  );
}
