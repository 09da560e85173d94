import { useCampaign, useCurve, useOtherCurves, usePeriods, useSeries } from "../../api/queries";
import { keepSeries } from "../../api/actions";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Chips, Fact, Section } from "../../ui/parts";
import { chanceWords } from "./Candidates";
import { epochOf, inForce } from "./phase";
import { useAsked } from "./PhaseView";
import { peakShown, periodWords, typed, useShown } from "./view";

const SHAPES = [
  { key: "any", words: "any shape" },
  { key: "waves", words: "waves" },
  { key: "eclipses", words: "eclipses" },
] as const;

const WHOSE = [
  { key: "own", words: "own points" },
  { key: "both", words: "with those from elsewhere" },
  { key: "others", words: "these alone" },
] as const;

/** What is searched, which period is taken, and what is taken off before the next search. */
export function PeriodSection() {
  const id = useApp((s) => s.campaign);
  const { data: campaign } = useCampaign(id);
  const { data: curve } = useCurve(id);
  const { data: series } = useSeries(id, true);
  const { data: found } = usePeriods(id, useAsked(), true);
  const { data: others } = useOtherCurves(id);
  const shown = useShown();
  const days = typed(shown.period);
  const peak = peakShown(found?.peaks, shown.period);
  const best = found?.peaks[0];
  const times = (factor: number) => {
    const from = days > 0 ? days : (inForce(series)?.period_d ?? best?.period_d ?? NaN);
    const own = found?.peaks.find((p) => Math.abs(p.period_d / (from * factor) - 1) < 2e-3);
    if (!(from > 0)) return;
    const exact = own?.period_d ?? from * factor;
    useShown.setState({ period: periodWords(exact, own?.uncertainty_d ?? exact * 1e-6) });
  };

  async function take(): Promise<void> {
    if (!(days > 0) || !curve) return;
    const epoch = epochOf(series, curve.filters);
    const turn = series?.turns.find((t) => t.bjd === epoch.bjd);
    const own = {
      epoch_bjd: epoch.bjd,
      period_d: peak?.period_d ?? days,
      kind: epoch.kind === "maximum" ? ("maximum" as const) : ("minimum" as const),
      quadratic_d: 0,
      epoch_uncertainty_d: turn?.uncertainty_d ?? 0,
      period_uncertainty_d: peak?.uncertainty_d ?? 0,
      quadratic_uncertainty_d: 0,
      source: peak ? `found in ${found!.points} points` : "typed",
    };
    const elements = [...(series?.elements ?? []), own];
    await keepSeries({ elements, chosen: elements.length - 1 });
  }

  return (
    <Section title="Period">
      <div className="flex flex-col gap-2">
        <Chips
          label="shape of the curve"
          value={shown.shape}
          onChange={(shape) => useShown.setState({ shape })}
          options={SHAPES}
        />
        {others?.curves.some((curve) => !curve.problem) && (
          <Chips
            label="points that are searched"
            value={shown.of}
            onChange={(of) => useShown.setState({ of })}
            options={WHOSE}
          />
        )}
        <div className="flex items-center gap-1.5">
          <span className="text-quiet">from</span>
          <Days
            label="shortest period in days"
            value={shown.shortest}
            onChange={(shortest) => useShown.setState({ shortest })}
          />
          <span className="text-quiet">to</span>
          <Days
            label="longest period in days"
            value={shown.longest}
            onChange={(longest) => useShown.setState({ longest })}
          />
          <span className="text-quiet">days</span>
        </div>
        <div className="flex items-center gap-1.5">
          <Days
            wide
            label="period in days"
            value={shown.period}
            onChange={(period) => useShown.setState({ period })}
          />
          <Button onClick={() => times(0.5)}>half</Button>
          <Button onClick={() => times(2)}>double</Button>
        </div>
      </div>
      {peak && (
        <dl className="mt-2">
          <Fact name="period">
            {periodWords(peak.period_d, peak.uncertainty_d)} ± {peak.uncertainty_d.toPrecision(2)} d
          </Fact>
          <Fact name="what speaks for it">{chanceWords(peak)}</Fact>
          {peak.note && <Fact name="is the">{peak.note}</Fact>}
        </dl>
      )}
      <div className="mt-2 flex flex-wrap gap-2">
        <Button main disabled={!(days > 0)} onClick={() => void take()}>
          Take as elements
        </Button>
        <Button
          disabled={!(days > 0) || shown.without.length >= 6}
          title="Take this period off the curve and search what is left"
          onClick={() =>
            useShown.setState({ without: [...shown.without, peak?.period_d ?? days], period: "" })
          }
        >
          Search what is left
        </Button>
      </div>
      {shown.without.length > 0 && (
        <ul className="mt-2">
          {shown.without.map((period, n) => (
            <li key={period} className="flex items-baseline gap-2">
              <span className="num">
                f{n + 1} {(1 / period).toFixed(4)} a day, {period.toPrecision(6)} d
              </span>
              <button
                className="ml-auto text-quiet hover:text-ink"
                aria-label={`leave f${n + 1} in the curve again`}
                onClick={() =>
                  useShown.setState({ without: shown.without.filter((_, at) => at !== n) })
                }
              >
                ×
              </button>
            </li>
          ))}
        </ul>
      )}
      <div className="mt-2">
        <Chips
          label="points"
          value={String(shown.bins) as "0" | "1" | "2"}
          onChange={(bins) => useShown.setState({ bins: Number(bins) })}
          options={[
            { key: "0", words: "every point" },
            { key: "1", words: "means of 1%" },
            { key: "2", words: "of 2%" },
          ]}
        />
      </div>
      {!campaign?.cast && <p className="text-quiet">Choose a target first.</p>}
    </Section>
  );
}

function Days(props: {
  label: string;
  value: string;
  wide?: boolean;
  onChange: (text: string) => void;
}) {
  return (
    <input
      aria-label={props.label}
      className={`field num ${props.wide ? "w-32!" : "w-16!"}`}
      placeholder={props.wide ? "days" : "auto"}
      value={props.value}
      onChange={(event) => props.onChange(event.target.value)}
    />
  );
}
