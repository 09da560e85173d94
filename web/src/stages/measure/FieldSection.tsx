import { useRef, useState } from "react";
import type uPlot from "uplot";
import { useColours } from "../../api/queries";
import type { Campaign, Colours } from "../../api/types";
import { Chart, rangeOf } from "../../charts/Chart";
import { useApp } from "../../state";
import { Chips, Section } from "../../ui/parts";
import { colour, fixed } from "../../ui/words";
import { nearestTo } from "./noise";
import { NoiseChart } from "./NoiseChart";

const SURE_MAG = 0.1;

/** All stars of the field by colour and magnitude, as they were measured in two filters. */
export function FieldSection({ campaign, filter }: { campaign: Campaign; filter: string }) {
  const [shown, setShown] = useState<"" | "noise" | "colour">("");
  const { data } = useColours(campaign.id, shown === "colour");
  const kinds = [
    { key: "" as const, words: "folded" },
    { key: "noise" as const, words: "scatter" },
    { key: "colour" as const, words: "colour and magnitude" },
  ];
  return (
    <Section title="The field’s stars">
      <Chips
        label="picture of the field"
        value={shown}
        onChange={setShown}
        options={kinds.slice(0, campaign.filters.length > 1 ? 3 : 2)}
      />
      {shown === "noise" && <NoiseChart campaign={campaign} filter={filter} />}
      {shown === "colour" && data && data.row.length > 0 && (
        <Picture data={data} campaign={campaign} />
      )}
      {shown === "colour" && data && !data.row.length && (
        <p className="text-quiet">Fewer than two filters were measured.</p>
      )}
    </Section>
  );
}

function Picture({ data, campaign }: { data: Colours; campaign: Campaign }) {
  const set = useApp((s) => s.set);
  const star = useApp((s) => s.star);
  const plot = useRef<uPlot | null>(null);
  const sure = data.row.map((_, i) => i).filter((i) => data.colour_uncertainty[i]! < SURE_MAG);
  const x = rangeOf(
    sure.map((i) => data.colour[i]!),
    0.1,
    [0, 1],
  );
  const y = rangeOf(
    sure.map((i) => data.magnitude[i]!),
    0.3,
    [10, 15],
  );
  const at = star === null ? -1 : data.row.indexOf(star);
  const choose = (event: React.MouseEvent) => {
    const u = plot.current;
    if (!u) return;
    const frame = u.over.getBoundingClientRect();
    const row = nearestTo(
      sure.map((i) => ({ row: data.row[i]!, i })),
      ({ i }) => [u.valToPos(data.colour[i]!, "x"), u.valToPos(data.magnitude[i]!, "y")],
      { x: event.clientX - frame.left, y: event.clientY - frame.top },
    );
    if (row !== null) set({ star: row });
  };
  return (
    <div className="cursor-pointer" onClick={choose}>
      <Chart
        className="h-64"
        testId="colour-magnitude"
        x={x}
        y={y}
        reversed
        label={`${data.redder}, mag`}
        xLabel={`${data.bluer} − ${data.redder}, mag`}
        xAxis
        onPlace={(u) => (plot.current = u)}
        draw={(ctx, place) => {
          ctx.lineWidth = place.ratio;
          for (const i of sure) {
            const target = data.row[i] === campaign.cast?.target;
            const [px, py] = [place.x(data.colour[i]!), place.y(data.magnitude[i]!)];
            ctx.fillStyle = colour(target ? "--beam" : "--ink");
            ctx.globalAlpha = target ? 1 : 0.7;
            ctx.beginPath();
            ctx.arc(px, py, (target ? 3.4 : 1.7) * place.ratio, 0, 7);
            ctx.fill();
            ctx.globalAlpha = 1;
            if (i !== at) continue;
            ctx.strokeStyle = colour("--beam");
            ctx.beginPath();
            ctx.arc(px, py, 6 * place.ratio, 0, 7);
            ctx.stroke();
          }
        }}
      />
      <p className="text-small text-quiet">
        {data.transformed ? "Standard scale." : "The instrument’s own colour scale."} The large dot
        is the target{at >= 0 ? `; ${data.name[at]}: ${fixed(data.colour[at], 2)}` : ""}.
      </p>
    </div>
  );
}
