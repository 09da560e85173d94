import { useState } from "react";
import { useCurve, useSeries } from "../../api/queries";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";
import { Row } from "../../ui/Field";
import { epochOf, inForce } from "./phase";
import { savePng } from "./save";
import { copyText } from "./shown";
import { typed, useShown } from "./view";

const KINDS = ["svg", "pdf", "png"] as const;
const [LEAST_CM, MOST_CM] = [4, 60];

/** The curve as a figure for print, as large as a page wants it, and its points. */
export function FigureSection() {
  const id = useApp((s) => s.campaign);
  const filter = useApp((s) => s.filter);
  const { view, period } = useShown();
  const { data } = useCurve(id);
  const { data: series } = useSeries(id, view === "phase");
  const [width, setWidth] = useState("18");
  const [height, setHeight] = useState("11");
  const [title, setTitle] = useState("");
  const days = typed(period) > 0 ? typed(period) : (inForce(series)?.period_d ?? NaN);
  const folded = view === "phase" && days > 0;
  const query = new URLSearchParams({ width: cm(width, 18), height: cm(height, 11), title });
  if (folded) {
    const epoch = epochOf(series, data?.filters ?? []);
    query.set("period", String(days));
    query.set("epoch", String(epoch.bjd));
    query.set("kind", epoch.kind);
    query.set("filter", filter);
  }
  const name = folded ? "phase" : "curve";
  return (
    <Section title={folded ? "Figure over phase" : "Figure"}>
      <Row label="size">
        <span className="flex items-center gap-1.5">
          <Length label="width in cm" value={width} onChange={setWidth} />
          <span className="text-quiet">×</span>
          <Length label="height in cm" value={height} onChange={setHeight} />
          <span className="text-quiet">cm</span>
        </span>
      </Row>
      <Row label="title">
        <input
          aria-label="title of the figure"
          className="field"
          placeholder={folded ? "the star's name" : "none"}
          value={title}
          maxLength={200}
          onChange={(event) => setTitle(event.target.value)}
        />
      </Row>
      <div className="mt-2 flex flex-wrap gap-2">
        {KINDS.map((kind) => (
          <a
            key={kind}
            className="button"
            href={`/api/campaigns/${id}/${name}.${kind}?${query.toString()}`}
            download={`${name}.${kind}`}
          >
            {kind.toUpperCase()}
          </a>
        ))}
        {view !== "others" && (
          <Button title="What is on the screen now, as PNG" onClick={() => savePng("curve")}>
            As shown
          </Button>
        )}
        {data && <Button onClick={() => void copyText(data)}>Copy data</Button>}
      </div>
    </Section>
  );
}

/** What was typed, within what a figure can be. */
function cm(text: string, usual: number): string {
  const value = typed(text);
  return String(value > 0 ? Math.min(Math.max(value, LEAST_CM), MOST_CM) : usual);
}

function Length(props: { label: string; value: string; onChange: (text: string) => void }) {
  return (
    <input
      aria-label={props.label}
      className="field num w-12!"
      value={props.value}
      onChange={(event) => props.onChange(event.target.value)}
    />
  );
}
