import { useState } from "react";
import { fitElements, keepSeries } from "../../api/actions";
import { useSeries } from "../../api/queries";
import type { ElementsOf, SeriesOf } from "../../api/types";
import { say, useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";
import { departureWords, timeWords } from "./turns";
import { periodWords, typed, useShown } from "./view";

/** The star's elements: found, fitted, typed; one of them is in force. */
export function ElementsSection() {
  const id = useApp((s) => s.campaign);
  const { data: series } = useSeries(id, true);
  if (!series) return null;
  return (
    <Section title="Elements" aside={series.star}>
      {!series.elements.length && (
        <p className="mb-1 text-quiet">
          None yet. Take a period under “phase”, or type what is published.
        </p>
      )}
      <ul role="radiogroup" aria-label="elements in force">
        {series.elements.map((one, n) => (
          <One key={n} one={one} series={series} place={n} />
        ))}
      </ul>
      {series.chosen !== null && (
        <>
          {series.scatter_d !== null && (
            <p className="text-small text-quiet">
              Times scatter about them by {departureWords(series.scatter_d).replace("+", "")}.
            </p>
          )}
          <div className="mt-1.5 flex flex-wrap gap-2">
            <Button onClick={() => void fitElements(false)}>Fit to the times</Button>
            <Button
              onClick={() => void fitElements(true)}
              title={
                series.improvement === null
                  ? "The period changes steadily: takes five times at the least"
                  : `χ² falls by ${series.improvement.toFixed(1)}; beyond 9 the period surely changes`
              }
            >
              … with a changing period
            </Button>
          </div>
        </>
      )}
      <Typed series={series} />
    </Section>
  );
}

function One({ one, series, place }: { one: ElementsOf; series: SeriesOf; place: number }) {
  const here = series.chosen === place;
  const choose = () => {
    useShown.setState({ period: periodWords(one.period_d, one.period_uncertainty_d ?? 0) });
    void keepSeries({ chosen: here ? -1 : place });
  };
  const remove = () => {
    const elements = series.elements.filter((_, at) => at !== place);
    const chosen = here ? -1 : (series.chosen ?? -1) - ((series.chosen ?? -1) > place ? 1 : 0);
    void keepSeries({ elements, chosen });
  };
  const epoch =
    (one.epoch_uncertainty_d ?? 0) > 0
      ? timeWords(one.epoch_bjd, one.epoch_uncertainty_d!)
      : one.epoch_bjd.toFixed(5);
  const uncertain = (one.period_uncertainty_d ?? 0) > 0;
  return (
    <li className="flex gap-2 border-t border-line py-1 first:border-t-0">
      <button
        role="radio"
        aria-checked={here}
        className="min-w-0 flex-1 text-left"
        onClick={choose}
      >
        <span className={`num block ${here ? "font-semibold text-beam" : ""}`}>
          {periodWords(one.period_d, one.period_uncertainty_d ?? 0)}
          {uncertain && ` ± ${one.period_uncertainty_d!.toPrecision(2)}`} d
        </span>
        <span className="num block text-small">
          {one.kind} {epoch}
        </span>
        {one.quadratic_d !== 0 && (
          <span className="num block text-small">
            {(one.quadratic_d ?? 0).toExponential(2)} ±{" "}
            {(one.quadratic_uncertainty_d ?? 0).toExponential(0)} d a cycle²
          </span>
        )}
        <span className="block text-small text-quiet">
          {one.source || "typed"}
          {here && ", in force"}
        </span>
      </button>
      <button
        className="self-start text-quiet hover:text-ink"
        aria-label={`remove the elements of ${one.period_d} d`}
        onClick={remove}
      >
        ×
      </button>
    </li>
  );
}

const BLANK = { period: "", epoch: "", source: "", time: "", error: "" };

/** Elements and times from elsewhere, typed. */
function Typed({ series }: { series: SeriesOf }) {
  const [open, setOpen] = useState<"" | "elements" | "time">("");
  const [text, setText] = useState(BLANK);
  const cell = (key: keyof typeof BLANK, words: string) => (
    <input
      key={key}
      aria-label={words}
      placeholder={words}
      className="field num"
      value={text[key]}
      onChange={(event) => setText({ ...text, [key]: event.target.value })}
    />
  );

  async function add(): Promise<void> {
    const kind = "minimum" as const;
    if (open === "elements") {
      const [period_d, epoch_bjd] = [typed(text.period), typed(text.epoch)];
      if (!(period_d > 0) || !(epoch_bjd > 2e6)) {
        say("Elements take a period in days and an epoch as BJD (TDB), such as 2461326.4094.");
        return;
      }
      const elements = [
        ...series.elements,
        {
          ...{ epoch_bjd, period_d, kind, quadratic_d: 0, epoch_uncertainty_d: 0 },
          ...{ period_uncertainty_d: 0, quadratic_uncertainty_d: 0, source: text.source },
        },
      ];
      if (!(await keepSeries({ elements, chosen: elements.length - 1 }))) return;
    } else {
      const [bjd, uncertainty_d] = [typed(text.time), typed(text.error)];
      if (!(bjd > 2e6) || !(uncertainty_d > 0)) {
        say("A time is a BJD (TDB), such as 2461326.4094, with its uncertainty in days.");
        return;
      }
      const kept = series.turns
        .filter((t) => t.source)
        .map(({ bjd: b, uncertainty_d: u, kind: k, source }) => ({
          ...{ bjd: b, uncertainty_d: u, kind: k, source },
        }));
      const times = [...kept, { bjd, uncertainty_d, kind, source: text.source || "elsewhere" }];
      if (!(await keepSeries({ times }))) return;
    }
    setText(BLANK);
    setOpen("");
  }

  return (
    <div className="mt-2">
      <div className="flex flex-wrap gap-3 text-small">
        <button
          className="text-quiet hover:text-ink"
          aria-expanded={open === "elements"}
          onClick={() => setOpen(open === "elements" ? "" : "elements")}
        >
          Type elements …
        </button>
        <button
          className="text-quiet hover:text-ink"
          aria-expanded={open === "time"}
          onClick={() => setOpen(open === "time" ? "" : "time")}
        >
          Type a time from elsewhere …
        </button>
      </div>
      {open && (
        <div className="mt-1.5 flex flex-col gap-1.5">
          {open === "elements"
            ? [cell("period", "period, days"), cell("epoch", "minimum, BJD (TDB)")]
            : [cell("time", "minimum, BJD (TDB)"), cell("error", "uncertainty, days")]}
          {cell("source", "where it is from")}
          <Button onClick={() => void add()}>Keep it</Button>
        </div>
      )}
    </div>
  );
}
