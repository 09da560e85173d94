import { useDeferredValue, useMemo } from "react";
import { useCampaign, useCurve, useExposures } from "../../api/queries";
import { useApp } from "../../state";
import { Fact, Section } from "../../ui/parts";
import { fixed } from "../../ui/words";
import { followed, nightOffsets } from "./follows";

const SURE = 3;
const SHOWN = 3;

/** What the check stars follow that they should not, and how nights stand to one another: what the
 * target's curve has in it as well. */
export function CheckSection() {
  const id = useApp((s) => s.campaign);
  const { data: newest } = useCurve(id);
  const data = useDeferredValue(newest); // the curve is drawn first
  const { data: exposures } = useExposures(id);
  const { data: campaign } = useCampaign(id);
  const nights = campaign?.nights;
  const { follows, offsets } = useMemo(() => {
    const of = new Map((exposures?.exposures ?? []).map((e) => [e.id, e]));
    const evenings = new Map((nights ?? []).map((night) => [night.id, night.evening]));
    return {
      follows: followed(data?.filters ?? [], of),
      offsets: nightOffsets(data?.filters ?? [], of, evenings),
    };
  }, [data, exposures, nights]);
  if (!follows.length) return null;
  const sure = follows.filter((f) => f.sure > SURE);
  return (
    <Section title="What the check star follows">
      <p className="mb-1 text-quiet">
        {sure.length
          ? "Over the range of each it changes by so much; the target surely does, too:"
          : "Nothing surely. Over the range of each it changes by:"}
      </p>
      <dl>
        {(sure.length ? sure : follows.slice(0, SHOWN)).map((f) => (
          <Fact key={f.what + f.filter} name={`${f.what}, ${f.filter}`}>
            <span className={f.sure > SURE ? "text-beam" : ""}>
              {fixed(f.mmag, 1)} ± {fixed(f.error, 1, "mmag")}
            </span>
          </Fact>
        ))}
        {offsets.map((o) => (
          <Fact key={o.night + o.filter} name={`night of ${o.night}, ${o.filter}`}>
            <span className={Math.abs(o.mmag) > SURE * o.error ? "text-beam" : ""}>
              {fixed(o.mmag, 1)} ± {fixed(o.error, 1, "mmag")}
            </span>
          </Fact>
        ))}
      </dl>
    </Section>
  );
}
