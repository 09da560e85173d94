import { useState } from "react";
import { useCampaign, useExposures } from "../../api/queries";
import { useApp } from "../../state";
import { Field } from "../../ui/Field";
import { Chips, Section } from "../../ui/parts";
import { chartAddress, USUAL_CHART, type ChartLook } from "./finder";

/** A chart to print: north, hand, size, over the exposure under the beam or from the catalogue. */
export function FinderSection() {
  const id = useApp((s) => s.campaign);
  const beam = useApp((s) => s.beam);
  const filter = useApp((s) => s.filter);
  const { data: campaign } = useCampaign(id);
  const { data: exposures } = useExposures(id);
  const [look, setLook] = useState<ChartLook>(USUAL_CHART);
  const [open, setOpen] = useState(false);
  if (!campaign?.cast || id === null) return null;
  const placed = exposures?.exposures.find((e) => e.id === beam)?.placed ?? false;
  const address = (kind: string) => chartAddress(id, kind, look, filter, placed ? beam : null);
  const change = (values: Partial<ChartLook>) => setLook({ ...look, ...values });
  return (
    <Section title="Finder chart" aside="as it is printed">
      <div className="mb-1 flex flex-col gap-2">
        <Chips
          label="drawn over"
          value={look.over}
          onChange={(over) => change({ over })}
          options={[
            { key: "catalogue", words: "from the catalogue" },
            { key: "exposure", words: "over this exposure" },
          ]}
        />
        <Chips
          label="hand"
          value={look.mirrored ? "mirror" : "sky"}
          onChange={(key) => change({ mirrored: key === "mirror" })}
          options={[
            { key: "sky", words: "as on the sky" },
            { key: "mirror", words: "mirrored" },
          ]}
        />
      </div>
      <Field label="side, ′" value={look.width} onSave={(width) => change({ width })} />
      <Field label="up, ° from north" value={look.up} onSave={(up) => change({ up })} />
      <div className="mt-2 flex flex-wrap items-center gap-2">
        {["svg", "pdf", "png"].map((kind) => (
          <a key={kind} className="button" href={address(kind)} download={`finder-chart.${kind}`}>
            {kind.toUpperCase()}
          </a>
        ))}
        <button className="min-h-6 px-1 text-beam" onClick={() => setOpen(!open)}>
          {open ? "hide" : "see it"}
        </button>
      </div>
      {open && (
        <div className="on-paper mt-2">
          <img
            className="w-full"
            src={address("svg")}
            alt={`finder chart of ${campaign.target.name}`}
          />
        </div>
      )}
    </Section>
  );
}
