import { lazy, Suspense, useEffect, type ComponentType } from "react";
import { useAddress } from "./address";
import { useCampaign, useExposures } from "./api/queries";
import { useEvents } from "./api/events";
import { useAxis } from "./rail/axis";
import { beamPixel, Rail } from "./rail/Rail";
import { STAGE_NAMES, useApp, type StageKey } from "./state";
import { Asked } from "./ui/Asked";
import { Bar } from "./ui/Bar";
import { Guard } from "./ui/Guard";
import { Next } from "./ui/Next";
import { Remarks } from "./ui/Remarks";
import { useKeys } from "./ui/Keys";
import { Saying } from "./ui/Saying";
import { Sheets } from "./ui/Sheets";
import { StageList } from "./ui/StageList";
import { useSize } from "./ui/canvas";
import { Plate } from "./plate/Plate";
import { IntakeBench, IntakeMain } from "./stages/Intake";
import { CorrectBench } from "./stages/Correct";
import { VetBench } from "./stages/Vet";
import { PlaceBench } from "./stages/Place";
import { useShown } from "./stages/curve/view";
import { ReportBench, ReportMain } from "./stages/Report";

const CurveMain = lazy(() => import("./stages/Curve").then((m) => ({ default: m.CurveMain })));
const CurveBench = lazy(() => import("./stages/Curve").then((m) => ({ default: m.CurveBench })));
const MeasureMain = lazy(() =>
  import("./stages/Measure").then((m) => ({ default: m.MeasureMain })),
);
const MeasureBench = lazy(() =>
  import("./stages/Measure").then((m) => ({ default: m.MeasureBench })),
);
const ExposureLedger = lazy(() =>
  import("./ledger/ExposureLedger").then((m) => ({ default: m.ExposureLedger })),
);
const StarLedger = lazy(() =>
  import("./ledger/StarLedger").then((m) => ({ default: m.StarLedger })),
);
const LightLedger = lazy(() =>
  import("./ledger/LightLedger").then((m) => ({ default: m.LightLedger })),
);
const PointLedger = lazy(() =>
  import("./ledger/PointLedger").then((m) => ({ default: m.PointLedger })),
);
const Film = lazy(() => import("./film/Film").then((m) => ({ default: m.Film })));
const CastBench = lazy(() => import("./stages/Cast").then((m) => ({ default: m.CastBench })));

const FILM_PX = 72;

interface Screen {
  main: ComponentType;
  bench: ComponentType;
  /** Drawn over time: the beam runs up through it. */
  overTime?: boolean;
  /** The same as a table. */
  ledger?: ComponentType;
}

const SCREENS: Record<StageKey, Screen> = {
  intake: { main: IntakeMain, bench: IntakeBench },
  correct: { main: Plate, bench: CorrectBench },
  vet: { main: Plate, bench: VetBench, ledger: ExposureLedger },
  place: { main: Plate, bench: PlaceBench, ledger: ExposureLedger },
  cast: { main: Plate, bench: CastBench, ledger: StarLedger },
  measure: { main: MeasureMain, bench: MeasureBench, ledger: LightLedger },
  curve: { main: CurveMain, bench: CurveBench, overTime: true, ledger: PointLedger },
  report: { main: ReportMain, bench: ReportBench },
};

export function App() {
  const s = useApp();
  useEvents();
  useKeys();
  useAddress();
  useBeamSomewhere();
  const [middle, size] = useSize<HTMLElement>();
  const axis = useAxis();
  const { data: campaign } = useCampaign(s.campaign);
  const x = beamPixel(axis, s.beam, size.width);
  const { main: Plain, bench: Bench, ledger } = SCREENS[s.stage];
  const Main = s.ledger && ledger ? ledger : Plain;
  const foot = 116 + (s.film ? FILM_PX : 0);
  const folded = useShown((shown) => shown.view !== "time");
  const overTime = SCREENS[s.stage].overTime && !(s.stage === "curve" && folded) && !s.ledger;

  return (
    <div
      className="relative grid h-full"
      style={{
        gridTemplateColumns: `88px minmax(0, 1fr) ${s.benchFolded ? 25 : 314}px`,
        gridTemplateRows: `40px minmax(0, 1fr) ${s.film ? `${FILM_PX}px ` : ""}116px`,
      }}
    >
      <Bar />
      <StageList />
      <main ref={middle} className="relative min-h-0 min-w-0" aria-label={s.stage}>
        <h1 className="sr-only">
          {STAGE_NAMES[s.stage]}
          {campaign && `, ${campaign.name}`}
        </h1>
        <Guard part={s.stage}>
          <Suspense fallback={null}>
            <Main />
          </Suspense>
          <Asked />
        </Guard>
      </main>
      <aside className="flex min-h-0 border-l border-line bg-panel" aria-label="bench">
        <button
          className="w-6 shrink-0 text-quiet hover:bg-raised hover:text-ink"
          aria-label={s.benchFolded ? "open the bench" : "fold the bench"}
          title={s.benchFolded ? "Open the bench (B)" : "Fold the bench (B)"}
          onClick={() => s.set({ benchFolded: !s.benchFolded })}
        >
          {s.benchFolded ? "‹" : "›"}
        </button>
        {!s.benchFolded && (
          <div className="min-w-0 flex-1 overflow-y-auto" data-testid="bench">
            <Guard part={s.stage}>
              {campaign && <Next campaign={campaign} />}
              {campaign && (
                <Remarks remarks={campaign.remarks.filter((r) => r.stage === s.stage)} />
              )}
              <Suspense fallback={null}>
                <Bench />
              </Suspense>
            </Guard>
          </div>
        )}
      </aside>
      {s.film && (
        <Suspense fallback={<div className="col-span-3" />}>
          <Film />
        </Suspense>
      )}
      <Rail />
      {x !== null && (
        <div
          data-testid="beam"
          className="beam"
          style={{
            left: 88 + x,
            bottom: 0,
            top: overTime ? 40 : undefined,
            height: overTime ? undefined : foot,
          }}
        />
      )}
      <Saying />
      <Sheets />
    </div>
  );
}

/** The beam stands on the middle of the night until it is moved. */
function useBeamSomewhere(): void {
  const campaign = useApp((s) => s.campaign);
  const beam = useApp((s) => s.beam);
  const { data } = useExposures(campaign);
  const { data: of } = useCampaign(campaign);
  useEffect(() => {
    if (!data || !of) return;
    if (data.exposures.some((e) => e.id === beam)) return;
    const usual = data.exposures.filter((e) => e.filter === of.filters[0] && !e.trouble);
    const middle = data.exposures.find((e) => e.id === data.reference) ?? usual[usual.length >> 1];
    useApp.setState({ beam: middle?.id ?? data.exposures[0]?.id ?? null });
  }, [data, of, beam]);
}
