import { useMemo, useState } from "react";
import { keepSeries } from "../../api/actions";
import { useSeries } from "../../api/queries";
import type { SeriesOf, Turn } from "../../api/types";
import { Chart, rangeOf } from "../../charts/Chart";
import { shape } from "../../charts/marks";
import { useAxis } from "../../rail/axis";
import { useApp } from "../../state";
import { Empty } from "../../ui/parts";
import { colour } from "../../ui/words";
import { inForce } from "./phase";
import { useShown } from "./view";
import { departures, departureWords, timeWords, wholeTurns } from "./turns";

/** Times of minimum and maximum: how they depart from the elements, and as a table. */
export function TurnsView() {
  const id = useApp((s) => s.campaign);
  const { data: series, isPending } = useSeries(id, true);
  if (isPending) return <p className="p-4 text-quiet">Looking for minima and maxima …</p>;
  if (!series?.turns.length)
    return (
      <Empty title="No minimum or maximum yet">
        <p>
          None stands out of the noise with light that falls and rises again in one night. Times
          from elsewhere can be typed on the bench.
        </p>
      </Empty>
    );
  return (
    <div className="flex h-full min-h-0 flex-col" data-testid="turns">
      <OMinusC series={series} />
      <Table series={series} />
    </div>
  );
}

function OMinusC({ series }: { series: SeriesOf }) {
  const points = useMemo(() => departures(wholeTurns(series)), [series]);
  if (!points.length)
    return (
      <p className="border-b border-line px-4 py-3 text-quiet">
        Observed minus calculated is drawn here once elements are chosen: take a period under
        “phase”, or type them on the bench.
      </p>
    );
  const x = rangeOf(
    points.map((p) => p.cycle),
    2,
    [-1, 1],
  );
  const y = rangeOf(
    points.flatMap((p) => [p.minutes - p.error, p.minutes + p.error, 0]),
    0.2,
    [-1, 1],
  );
  return (
    <Chart
      className="min-h-40 flex-1 border-b border-line"
      testId="o-minus-c"
      x={x}
      y={y}
      label="O − C, minutes"
      xLabel="cycle"
      xAxis
      counted
      draw={(ctx, place) => {
        ctx.lineWidth = place.ratio;
        ctx.strokeStyle = colour("--quiet");
        ctx.beginPath();
        ctx.moveTo(place.x(x[0]), place.y(0));
        ctx.lineTo(place.x(x[1]), place.y(0));
        ctx.stroke();
        for (const { turn, cycle, minutes, error } of points) {
          const tone = turn.source ? colour("--quiet") : colour("--ink");
          const [px, py] = [place.x(cycle), place.y(minutes)];
          ctx.strokeStyle = tone;
          ctx.beginPath();
          ctx.moveTo(px, place.y(minutes - error));
          ctx.lineTo(px, place.y(minutes + error));
          ctx.stroke();
          shape(ctx, turn.kind === "minimum" ? "target" : "comparison", px, py, 3.4 * place.ratio);
          ctx.fillStyle = turn.complete ? tone : colour("--ground");
          ctx.fill();
          ctx.stroke();
        }
      }}
    />
  );
}

function Table({ series }: { series: SeriesOf }) {
  const [open, setOpen] = useState<string | null>(null);
  const known = inForce(series) !== null;
  const dates = useShown((s) => s.dates);
  return (
    <div className="min-h-0 flex-[1.4] overflow-y-auto">
      <table className="num w-full border-collapse">
        <thead className="sticky top-0 bg-ground text-left text-small text-quiet">
          <tr>
            {[
              "",
              dates === "hjd" ? "HJD (UTC)" : "BJD (TDB)",
              "by",
              "points",
              "depth",
              "cycle",
              "O − C",
              "remark",
            ].map((word) => (
              <th key={word} className="border-b border-line px-3 py-1 font-sans font-normal">
                {word}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {wholeTurns(series).map((turn) => (
            <Rows
              key={`${turn.kind}${turn.key}${turn.source}`}
              turn={turn}
              series={series}
              known={known}
              open={open === turn.key}
              onOpen={() => setOpen(open === turn.key ? null : turn.key)}
            />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Rows(props: {
  turn: Turn;
  series: SeriesOf;
  known: boolean;
  open: boolean;
  onOpen: () => void;
}) {
  const { turn, series, open } = props;
  const axis = useAxis();
  const set = useApp((s) => s.set);
  const dates = useShown((s) => s.dates);
  const later = dates === "hjd" ? turn.hjd_utc - turn.bjd : 0;
  const parts = series.turns.filter(
    (t) => t.filter !== "" && t.kind === turn.kind && Math.abs(t.bjd - turn.bjd) < 0.03,
  );
  const goThere = () => {
    // Barycentric and Julian dates are minutes apart: near enough for an exposure.
    const near = [...axis.exposures].sort(
      (a, b) => Math.abs(a.jd_utc - turn.bjd) - Math.abs(b.jd_utc - turn.bjd),
    )[0];
    if (near && Math.abs(near.jd_utc - turn.bjd) < 0.1) set({ beam: near.id });
  };
  const words = [
    turn.source && `from ${turn.source}`,
    !turn.complete && "partly observed",
    !turn.symmetric && "sides differ",
  ].filter(Boolean);
  return (
    <>
      <tr className="border-b border-line hover:bg-raised" onClick={goThere}>
        <td className="px-3 py-1">
          {parts.length > 0 ? (
            <button
              className="text-quiet hover:text-ink"
              aria-expanded={open}
              aria-label={`each filter and method of the ${turn.kind} at ${turn.key}`}
              onClick={(event) => {
                event.stopPropagation();
                props.onOpen();
              }}
            >
              {open ? "▾" : "▸"} {turn.kind}
            </button>
          ) : (
            <span className="pl-3.5">{turn.kind}</span>
          )}
        </td>
        <td className="px-3">{timeWords(turn.bjd + later, turn.uncertainty_d)}</td>
        <td className="px-3">{turn.method}</td>
        <td className="px-3">{turn.points || ""}</td>
        <td className="px-3">{turn.depth_mag == null ? "" : turn.depth_mag.toFixed(2)}</td>
        <td className="px-3">
          {props.known && turn.cycle !== null && <Cycle turn={turn} series={series} />}
        </td>
        <td className="px-3">{turn.o_minus_c_d == null ? "" : departureWords(turn.o_minus_c_d)}</td>
        <td className="px-3 font-sans text-quiet">{words.join(", ")}</td>
      </tr>
      {open &&
        parts.flatMap((part) =>
          [
            { method: part.method, bjd: part.bjd, uncertainty_d: part.uncertainty_d },
            ...part.others,
          ].map((one, n) => (
            <tr key={`${part.filter}${one.method}`} className="border-b border-line text-quiet">
              <td className="px-3 py-0.5 pl-8">{n === 0 ? `in ${part.filter}` : ""}</td>
              <td className="px-3">{timeWords(one.bjd + later, one.uncertainty_d)}</td>
              <td className="px-3 font-sans" colSpan={6}>
                {one.method}
              </td>
            </tr>
          )),
        )}
    </>
  );
}

/** Which cycle a time belongs to, as it is counted or as the observer says. */
function Cycle({ turn, series }: { turn: Turn; series: SeriesOf }) {
  const [text, setText] = useState<string | null>(null);
  const given = Object.fromEntries(
    series.turns.filter((t) => t.given && t.cycle !== null).map((t) => [t.key, t.cycle!]),
  );
  const keep = () => {
    const value = Number((text ?? "").replace("−", "-"));
    if (text?.trim() && Number.isFinite(value) && value !== turn.cycle)
      void keepSeries({ cycles: { ...given, [turn.key]: Math.round(2 * value) / 2 } });
    if (text?.trim() === "" && turn.given) {
      const rest = Object.entries(given).filter(([key]) => key !== turn.key);
      void keepSeries({ cycles: Object.fromEntries(rest) });
    }
    setText(null);
  };
  return (
    <input
      aria-label={`cycle of ${turn.key}`}
      title={turn.given ? "Yours; empty it to count again" : "Counted by the elements"}
      className={`field num w-20! py-0! ${turn.given ? "text-beam" : ""}`}
      value={text ?? String(turn.cycle).replace("-", "−")}
      onClick={(event) => event.stopPropagation()}
      onChange={(event) => setText(event.target.value)}
      onBlur={keep}
      onKeyDown={(event) => event.key === "Enter" && keep()}
    />
  );
}
