import { saveSettings } from "../../api/actions";
import type { FilterCurve } from "../../api/types";
import { extent } from "../../charts/extent";
import { Fact, Section } from "../../ui/parts";
import { fixed, plusMinusMmag, radiusWords } from "../../ui/words";
import { indexWords } from "../measure/scale";
import { doubts, median } from "./shown";

/** What a filter's curve shows in numbers. */
export function FilterFacts({ curve, floor }: { curve: FilterCurve; floor: boolean }) {
  const target = curve.series.find((s) => s.role === "target");
  const values = target?.magnitude.filter((v): v is number => v !== null) ?? [];
  const [brightest, faintest] = extent(values);
  return (
    <Section title={`In ${curve.filter}`} aside={`${values.length} points`}>
      <dl>
        <Fact name="brightest, faintest">
          {fixed(brightest, 3)} · {fixed(faintest, 3)}
        </Fact>
        <Fact name="typical uncertainty">
          {fixed(median(target?.uncertainty ?? []) * 1000, 1, "mmag")}
        </Fact>
        <Fact name="check star scatters">
          {curve.scatter_check_mag === null
            ? "no check star"
            : `${fixed(curve.scatter_check_mag * 1000, 1)}, ${fixed((curve.expected_check_mag ?? NaN) * 1000, 1)} expected`}
        </Fact>
        <Fact name="radius">{radiusWords(curve.radius_px)}</Fact>
        <Fact name="common offset, ±">{fixed(curve.common_offset_mag * 1000, 1, "mmag")}</Fact>
        {curve.floor_mag !== null && (
          <Fact name="correlated noise">
            <button
              className="text-beam"
              title={
                floor
                  ? "Take it out of the uncertainties again"
                  : "Add it to the uncertainties of all points"
              }
              onClick={() => void saveSettings({ floor: !floor })}
            >
              {fixed(curve.floor_mag * 1000, 1, "mmag")}
              {floor ? ", in the uncertainties" : ": add it"}
            </button>
          </Fact>
        )}
        <Fact name="standard scale">
          {curve.standard
            ? `by ${indexWords(curve.standard.index)}, ${plusMinusMmag(curve.standard.common_mag)}`
            : "not reached: see Measure"}
        </Fact>
        {target && target.doubtful.length > 0 && (
          <Fact name="doubtful, hollow">{target.doubtful.length}</Fact>
        )}
        {target &&
          doubts(target).map(({ words, count, mmag }) => (
            <Fact key={words} name={`for ${words}`}>
              {count}
              {mmag > 0 && `, up to ${fixed(mmag, mmag < 10 ? 1 : 0, "mmag")}`}
            </Fact>
          ))}
        {target && Object.keys(target.limit).length > 0 && (
          <Fact name="not seen, limit only">{Object.keys(target.limit).length}</Fact>
        )}
      </dl>
    </Section>
  );
}
