import { useRef, useState } from "react";
import { giveRole, startJob } from "../api/actions";
import { useCampaign, useCandidates, useCatalogue } from "../api/queries";
import type { Campaign, Candidate, Candidates } from "../api/types";
import { Chart, rangeOf } from "../charts/Chart";
import { shape } from "../charts/marks";
import { useApp } from "../state";
import { Button } from "../ui/Button";
import { Chips, Section } from "../ui/parts";
import { colour, fixed } from "../ui/words";
import { FinderSection } from "./cast/FinderSection";
import { checkLabel, roleOf, type Role } from "./cast/roles";
import { SequenceSection } from "./cast/SequenceSection";
import { TargetsSection } from "./cast/TargetsSection";

export function CastBench() {
  const id = useApp((s) => s.campaign);
  const filter = useApp((s) => s.filter);
  const set = useApp((s) => s.set);
  const { data: campaign } = useCampaign(id);
  const { data } = useCandidates(id, filter);
  if (!campaign) return null;
  if (!campaign.cast)
    return (
      <>
        <ChosenStar campaign={campaign} />
        <Section title="Who plays which part">
          <p className="mb-2">
            {campaign.target.sure
              ? "Parts are given to measured stars: every star of the field is measured once, then roles can change at will."
              : "Click your star on the plate and press T. Comparison stars and a check star are then proposed, with reasons."}
          </p>
          {campaign.target.sure && (
            <Button onClick={() => void startJob("census")}>Measure all stars</Button>
          )}
        </Section>
      </>
    );
  return (
    <>
      <ChosenStar campaign={campaign} />
      <TargetsSection campaign={campaign} />
      {data && data.candidates.length > 0 && (
        <>
          <Section
            title="Line-up"
            aside={
              <Chips
                label="filter"
                value={data.filter}
                onChange={(key) => set({ filter: key })}
                options={campaign.filters.map((f) => ({ key: f, words: f }))}
              />
            }
          >
            <LineUps data={data} campaign={campaign} />
          </Section>
          <Section title="Comparison stars" aside="scatter over the nights, mmag">
            {data.candidates.map((star) => (
              <CandidateRow key={star.row} star={star} campaign={campaign} />
            ))}
          </Section>
        </>
      )}
      <SequenceSection campaign={campaign} />
      <FinderSection />
    </>
  );
}

const ROLES: { key: Role; words: string; letter: string }[] = [
  { key: "target", words: "target", letter: "T" },
  { key: "comparison", words: "comparison", letter: "M" },
  { key: "check", words: "check", letter: "K" },
];

function ChosenStar({ campaign }: { campaign: Campaign }) {
  const star = useApp((s) => s.star);
  const { data: catalogue } = useCatalogue(campaign.id);
  const i = star === null ? -1 : (catalogue?.row.indexOf(star) ?? -1);
  if (star === null || i < 0)
    return (
      <Section title="Parts">
        <p className="text-quiet">
          Click a star on the plate, then T for target, M for comparison, K for check star.
        </p>
      </Section>
    );
  const role = roleOf(campaign.cast, star);
  return (
    <Section title={catalogue!.name[i]} aside={role === "none" ? "no part" : role}>
      <div className="flex gap-1.5">
        {ROLES.map(({ key, words, letter }) => (
          <Button
            key={key}
            aria-pressed={role === key}
            className={role === key ? "border-beam! text-beam" : ""}
            onClick={() => void giveRole(campaign, star, key)}
          >
            <span className="num text-quiet">{letter}</span> {words}
          </Button>
        ))}
      </div>
      {campaign.cast?.dropped[String(star)] && (
        <p className="mt-1.5 text-small text-beam">{campaign.cast.dropped[String(star)]}</p>
      )}
    </Section>
  );
}

function LineUps({ data, campaign }: { data: Candidates; campaign: Campaign }) {
  const [by, setBy] = useState<"magnitude" | "colour">("magnitude");
  return (
    <>
      <Chips
        label="line-up against"
        value={by}
        onChange={setBy}
        options={[
          { key: "magnitude", words: "by brightness" },
          { key: "colour", words: "by colour" },
        ]}
      />
      <LineUp data={data} campaign={campaign} by={by} />
      <p className="text-small text-quiet">
        {by === "magnitude"
          ? `Measured less catalogue, in ${data.band}. A star off the line has a wrong magnitude.`
          : "A slope is the filter’s own colour scale, taken off in Measure: Colour and air."}
      </p>
    </>
  );
}

interface LineUpProps {
  data: Candidates;
  campaign: Campaign;
  by: "magnitude" | "colour";
}

function LineUp({ data, campaign, by }: LineUpProps) {
  const stars = data.candidates.filter((c) => c[by] !== null && c.off_line !== null);
  const x = rangeOf(
    stars.map((c) => c[by]),
    by === "colour" ? 0.05 : 0.5,
    by === "colour" ? [0, 1] : [10, 14],
  );
  const y = rangeOf([...stars.map((c) => c.off_line), 0.05, -0.05], 0.1, [-0.1, 0.1]);
  return (
    <Chart
      key={by}
      className="h-36"
      x={x}
      y={y}
      label="off the line, mag"
      xLabel={by === "colour" ? "colour of the catalogue" : "catalogue, mag"}
      xAxis
      draw={(ctx, place) => {
        ctx.strokeStyle = colour("--quiet");
        ctx.beginPath();
        ctx.moveTo(place.x(x[0]), place.y(0));
        ctx.lineTo(place.x(x[1]), place.y(0));
        ctx.stroke();
        for (const c of stars) {
          const role = roleOf(campaign.cast, c.row);
          const tone = colour(
            role === "check" ? "--check" : role === "comparison" ? "--comparison" : "--quiet",
          );
          ctx.strokeStyle = tone;
          ctx.fillStyle = role === "none" ? colour("--panel") : tone;
          shape(
            ctx,
            role === "check" ? "check" : "comparison",
            place.x(c[by]!),
            place.y(c.off_line!),
            3.2 * place.ratio,
          );
          ctx.fill();
          ctx.stroke();
        }
      }}
    />
  );
}

function CandidateRow({ star, campaign }: { star: Candidate; campaign: Campaign }) {
  const chosen = useApp((s) => s.star);
  const set = useApp((s) => s.set);
  const row = useRef<HTMLDivElement>(null);
  const role = roleOf(campaign.cast, star.row);
  const number = campaign.cast?.comparison.indexOf(star.row) ?? -1;
  const check = role === "check" ? checkLabel(campaign.cast!, star.row) : "";
  const sign = check || (role === "target" ? "T" : number >= 0 ? number + 1 : "");
  const tone =
    role === "check" ? "text-check" : role === "comparison" ? "text-comparison" : "text-quiet";
  return (
    <div
      ref={row}
      className={`border-t border-line py-1 first:border-t-0 ${chosen === star.row ? "bg-raised" : ""}`}
    >
      <div className="flex items-center gap-1.5">
        <button
          className={`num h-5 w-5 shrink-0 rounded-[3px] border text-center ${tone} ${role === "none" ? "border-line" : "border-current"}`}
          title={role === "none" ? "make it a comparison star" : "take the part away"}
          aria-label={`${sign} ${star.name}: ${role === "none" ? "no part" : role}`.trim()}
          disabled={role === "target"}
          onClick={() => void giveRole(campaign, star.row, role === "none" ? "comparison" : "none")}
        >
          {sign}
        </button>
        <button
          className="min-w-0 truncate text-left hover:text-beam"
          onClick={() => set({ star: star.row })}
        >
          {star.name}
        </button>
        <span className="num ml-auto shrink-0 text-quiet">{fixed(star.magnitude, 2)}</span>
        <Spark star={star} />
        <span className={`num w-9 shrink-0 text-right ${star.varies ? "text-trouble" : ""}`}>
          {star.scatter_mag === null ? "–" : (1000 * star.scatter_mag).toFixed(1)}
        </span>
      </div>
      <p className={`pl-7 text-small ${star.varies ? "text-trouble" : "text-quiet"}`}>
        {star.varies && !star.words.startsWith("varies") ? `varies. ${star.words}` : star.words}
      </p>
    </div>
  );
}

/** The star against the others over the nights, ±30 mmag. */
function Spark({ star }: { star: Candidate }) {
  const [w, h] = [48, 18];
  const points = star.series
    .map((v, i) => ({ v, x: (i / Math.max(star.series.length - 1, 1)) * w }))
    .filter((p): p is { v: number; x: number } => p.v !== null);
  return (
    <svg width={w} height={h} className="shrink-0" role="img" aria-label="its own curve, ±30 mmag">
      <line x1="0" x2={w} y1={h / 2} y2={h / 2} stroke="var(--line)" />
      {points.map(({ v, x }, i) => (
        <circle
          key={i}
          cx={x}
          cy={Math.min(Math.max(h / 2 + (v / 0.03) * (h / 2), 1), h - 1)}
          r="0.9"
          fill={star.varies ? "var(--trouble)" : "var(--comparison)"}
        />
      ))}
    </svg>
  );
}
