import { useMemo } from "react";
import { followToo } from "../../api/actions";
import { useSurvey } from "../../api/queries";
import type { Suspect } from "../../api/types";
import { phaseOf } from "../../charts/marks";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Empty } from "../../ui/parts";
import { filterColour, fixed } from "../../ui/words";
import { Folded } from "./Folded";

/** Every star of the field that varies, most suspicious first. */
export function OthersView() {
  const id = useApp((s) => s.campaign);
  const { data, isPending, error } = useSurvey(id, true);
  if (isPending) return <p className="p-4 text-quiet">Looking at every star of the field …</p>;
  if (error) return <p className="p-4 text-trouble">{error.message}</p>;
  const told =
    data.looked_at < data.exposures
      ? ` Told by ${data.looked_at} of ${data.exposures} exposures, over all nights.`
      : "";
  if (!data.suspects.length)
    return (
      <Empty title="No star of the field stands out">
        <p>
          {data.stars} stars were held against those of their brightness: none scatters by more,
          runs up and down, or does so in two filters at once, beyond {data.least} times what chance
          gives.{told}
        </p>
      </Empty>
    );
  return (
    <div className="flex h-full min-h-0 flex-col" data-testid="others">
      <p className="border-b border-line px-4 py-2">
        {data.suspects.length} of {data.stars} stars stand out by {data.least} σ and more: by their
        scatter, by neighbours in time that are alike, by filters that agree.{told}
      </p>
      <ul className="min-h-0 flex-1 overflow-y-auto">
        {data.suspects.map((suspect) => (
          <Row key={suspect.row} suspect={suspect} campaign={id!} />
        ))}
      </ul>
    </div>
  );
}

function Row({ suspect, campaign }: { suspect: Suspect; campaign: number }) {
  const star = useApp((s) => s.star);
  const set = useApp((s) => s.set);
  const folded = suspect.period_d !== null;
  const specks = useMemo(
    () =>
      suspect.curve.flatMap((y, i) => {
        if (y == null) return [];
        const [at, from] = [suspect.bjd[i]!, suspect.bjd[0]!];
        const x = suspect.period_d ? phaseOf(at, from, suspect.period_d) : at;
        return [{ x, y, tone: filterColour(suspect.filter) }];
      }),
    [suspect],
  );
  const why = [
    [suspect.by_scatter, "scatter"],
    [suspect.by_runs, "runs"],
    [suspect.by_filters, "filters"],
  ] as const;
  return (
    <li
      className={`grid grid-cols-[1fr_220px_150px] items-center gap-4 border-b border-line px-4 py-1.5 ${star === suspect.row ? "bg-raised" : "hover:bg-raised"}`}
    >
      <button className="min-w-0 text-left" onClick={() => set({ star: suspect.row })}>
        <span className="flex items-baseline gap-2">
          <strong className="truncate font-semibold">{suspect.star}</strong>
          <span className="text-small text-quiet">
            {[suspect.role, suspect.known ? "known to vary" : suspect.designation]
              .filter(Boolean)
              .join(", ")}
          </span>
        </span>
        <span className="num block text-quiet">
          {fixed(suspect.magnitude, 2)} mag in {suspect.filter}, scatters by{" "}
          {fixed(1000 * suspect.scatter_mag, 0)} mmag, usual {fixed(1000 * suspect.expected_mag, 0)}
        </span>
      </button>
      <span className="h-12">
        <Folded
          specks={specks}
          label={`${suspect.star} ${folded ? "over its likely period" : "over time"}`}
        />
      </span>
      <span className="flex flex-col items-start gap-0.5">
        <span className="num" title={why.map(([v, w]) => `${w} ${fixed(v, 1)}`).join(", ")}>
          {fixed(suspect.significance, 1)} σ
          <span className="text-quiet">
            {suspect.period_d ? ` · ${suspect.period_d.toPrecision(5)} d` : ""}
          </span>
        </span>
        {suspect.role !== "target" && (
          <a
            className="text-small text-quiet underline decoration-line underline-offset-2 hover:text-beam"
            href={`/api/campaigns/${campaign}/finder.pdf?row=${suspect.row}&filter=${encodeURIComponent(suspect.filter)}`}
            download={`${suspect.known ? suspect.star : suspect.designation}.pdf`}
          >
            Finder chart
          </a>
        )}
        {suspect.role !== "target" && (
          <Button
            quiet
            className="px-0! py-0!"
            onClick={() => void followToo(campaign, suspect.row)}
          >
            Follow it, too
          </Button>
        )}
      </span>
    </li>
  );
}
