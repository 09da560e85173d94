import { useMemo } from "react";
import type { FilterCurve, Peak } from "../../api/types";
import type { Marks } from "../../charts/marks";
import { phaseOf } from "../../charts/marks";
import { filterColour } from "../../ui/words";
import { Folded, type Speck } from "./Folded";
import { peakShown, periodWords, useShown } from "./view";

const SHOWN = 5;

/** The likeliest periods, each with the curve folded by it: one look tells which is sound. */
export function Candidates(props: {
  peaks: readonly Peak[];
  marks: readonly Marks[];
  filters: readonly FilterCurve[];
}) {
  const shown = peakShown(
    props.peaks,
    useShown((s) => s.period),
  );
  return (
    <ol className="grid shrink-0 grid-cols-5 border-t border-line" aria-label="likely periods">
      {props.peaks.slice(0, SHOWN).map((peak, n) => {
        const words = periodWords(peak.period_d, peak.uncertainty_d);
        const here = peak === shown;
        return (
          <li key={words} className="min-w-0 border-r border-line last:border-r-0">
            <button
              className={`block w-full px-2 pt-1 pb-1.5 text-left hover:bg-raised ${here ? "border-b-2 border-beam" : "border-b-2 border-transparent"}`}
              aria-pressed={here}
              onClick={() => useShown.setState({ period: words })}
            >
              <span className="flex items-baseline gap-1.5">
                <span className="num text-quiet">{n + 1}</span>
                <span className="num truncate font-semibold">{words} d</span>
              </span>
              <span className="block h-14">
                <Stamp {...props} period={peak.period_d} />
              </span>
              <span className="block truncate text-small text-quiet" title={chanceWords(peak)}>
                {peak.note || chanceWords(peak)}
              </span>
            </button>
          </li>
        );
      })}
    </ol>
  );
}

export function chanceWords(peak: Peak): string {
  const share = `${Math.round(100 * peak.power)}% explained`;
  if (peak.false_alarm < 1e-4) return `${share}, not noise`;
  return `${share}, by chance ${Number((100 * peak.false_alarm).toPrecision(2))}%`;
}

function Stamp(props: {
  marks: readonly Marks[];
  filters: readonly FilterCurve[];
  period: number;
}) {
  const { marks, filters, period } = props;
  const specks = useMemo(() => stamp(marks, filters, period), [marks, filters, period]);
  return <Folded specks={specks} label={`the curve folded by ${period.toPrecision(6)} days`} />;
}

/** Points over phase, each filter about its own middle. */
export function stamp(
  marks: readonly Marks[],
  filters: readonly FilterCurve[],
  period: number,
): Speck[] {
  return marks.flatMap((m) => {
    const curve = filters.find((f) => f.filter === m.filter)!;
    const known = m.y.filter((v, i): v is number => v != null && !m.doubtful[i]);
    const middle = known.sort((a, b) => a - b)[known.length >> 1] ?? 0;
    return m.y.flatMap((y, i) =>
      y == null || m.doubtful[i]
        ? []
        : [
            {
              x: phaseOf(curve.bjd_tdb[i]!, curve.bjd_tdb[0]!, period),
              y: y - middle,
              tone: filterColour(m.filter),
            },
          ],
    );
  });
}
