import { useState } from "react";
import { changeScale, forgetTerm, keepTerm } from "../../api/actions";
import { useScale } from "../../api/queries";
import type { Campaign, Scale } from "../../api/types";
import { say } from "../../state";
import { Field } from "../../ui/Field";
import { Chips, Fact, Section } from "../../ui/parts";
import { fixed } from "../../ui/words";
import { AirChart } from "./AirChart";
import { ColourChart } from "./ColourChart";
import { indexWords, numberOrNull, signed, sourceWords, termWords } from "./scale";

/** How a filter's magnitudes hang on the stars' colours and on the air. */
export function ScaleSection({ campaign, filter }: { campaign: Campaign; filter: string }) {
  const [shown, setShown] = useState(filter);
  const [by, setBy] = useState<"colour" | "air">("colour");
  const wanted = campaign.filters.includes(shown) ? shown : filter;
  const { data } = useScale(campaign.id, wanted, campaign.cast != null);
  if (!data) return null;
  return (
    <Section
      title="Colour and air"
      aside={
        campaign.filters.length > 1 && (
          <Chips
            label="filter of the coefficient"
            value={wanted}
            onChange={setShown}
            options={campaign.filters.map((key) => ({ key, words: key }))}
          />
        )
      }
    >
      {data.air && data.stars.length > 0 && (
        <Chips
          label="colour or air"
          value={by}
          onChange={setBy}
          options={[
            { key: "colour", words: "by colour" },
            { key: "air", words: "by airmass" },
          ]}
        />
      )}
      {by === "air" && data.air ? (
        <AirChart air={data.air} />
      ) : (
        data.stars.length > 0 && <ColourChart scale={data} />
      )}
      <Verdict scale={data} />
      <Terms scale={data} />
      {data.index && <Said campaign={campaign} scale={data} />}
      {data.index && <Kept campaign={campaign} scale={data} />}
    </Section>
  );
}

function Verdict({ scale }: { scale: Scale }) {
  if (!scale.applied)
    return (
      <p className="mb-2 border-l-2 border-beam pl-2">
        Magnitudes in {scale.filter} stay on the instrument’s own scale
        {scale.why ? `: ${scale.why}` : scale.index ? ": the target’s colour is not known" : ""}.
        {scale.shift_mag != null && ` That may cost ${fixed(1000 * scale.shift_mag, 0, "mmag")}.`}
      </p>
    );
  return (
    <p className="mb-2">
      On the standard scale by the target’s {indexWords(scale.index)}{" "}
      <span className="num text-beam">{fixed(scale.target_colour, 2)}</span>,{" "}
      {sourceWords(scale.colour_source)}; its comparison stars have{" "}
      <span className="num">{fixed(scale.comparison_colour, 2)}</span>
      {scale.shift_mag != null && `: a shift of ${fixed(1000 * scale.shift_mag, 0, "mmag")}`}.
    </p>
  );
}

function Terms({ scale }: { scale: Scale }) {
  return (
    <dl className="mb-1">
      <Fact name={`per mag of ${indexWords(scale.index)}`}>
        {termWords(scale.transform, "spread in colour")}
      </Fact>
      <Fact name="extinction">{termWords(scale.extinction, "airmass")}</Fact>
      <Fact name="its change by colour">{termWords(scale.second_order, "airmass")}</Fact>
      {scale.mean_airmass != null && (
        <Fact name="at a mean airmass of">{fixed(scale.mean_airmass, 2)}</Fact>
      )}
      {scale.common_mag != null && (
        <Fact name="common to all points, ±">{fixed(1000 * scale.common_mag, 1, "mmag")}</Fact>
      )}
    </dl>
  );
}

/** What the kit's fields and nights gave before, to be taken in place of this one's. */
function Kept({ campaign, scale }: { campaign: Campaign; scale: Scale }) {
  const take = (coefficient: number, uncertainty: number) =>
    void changeScale(campaign.id, {
      given: { [scale.filter]: { coefficient, uncertainty, index: scale.index } },
    });
  const mean = scale.kept_mean;
  return (
    <div className="mt-2 text-small">
      {mean && (
        <p className="flex items-center gap-2 py-0.5">
          <span className="num">{termWords(mean, "")}</span>
          <span className="min-w-0 flex-1 truncate text-quiet">
            all {scale.kept.length} of them
          </span>
          <button className="min-h-6 text-beam" onClick={() => take(mean.value, mean.uncertainty)}>
            take
          </button>
        </p>
      )}
      {scale.kept.map((one) => (
        <p key={one.id} className="flex items-center gap-2 py-0.5">
          <span className="num">
            {signed(one.coefficient, 4)} ± {one.uncertainty.toFixed(4)}
          </span>
          <span
            className="min-w-0 flex-1 truncate text-quiet"
            title={`${one.campaign}, ${one.nights}, ${one.stars} stars at airmass ${one.airmass.toFixed(2)}`}
          >
            {one.campaign}, {one.nights}
          </span>
          <button
            className="min-h-6 text-beam"
            onClick={() => take(one.coefficient, one.uncertainty)}
          >
            take
          </button>
          <button className="min-h-6 text-quiet" onClick={() => void forgetTerm(one.id)}>
            forget
          </button>
        </p>
      ))}
      {scale.transform && scale.transform.fitted > 0 && (
        <button
          className="min-h-6 text-beam"
          title={`for other campaigns with ${scale.kit}`}
          onClick={() => void keepTerm(scale.filter)}
        >
          Keep {signed(scale.transform.value, 4)} for this kit
        </button>
      )}
    </div>
  );
}

/** What the observer says in place of what was found. */
function Said({ campaign, scale }: { campaign: Campaign; scale: Scale }) {
  const { transform } = campaign;
  const term = transform.given[scale.filter];
  const number = (text: string, then: (value: number | null) => void) => {
    const value = numberOrNull(text);
    if (value === undefined) say("That is no number: −0.04, or empty for what the stars say.");
    else then(value);
  };
  const change = (values: Parameters<typeof changeScale>[1]) =>
    void changeScale(campaign.id, values);
  return (
    <>
      <label className="mb-1 flex items-center gap-2">
        <input
          type="checkbox"
          checked={transform.apply}
          onChange={(event) => change({ apply: event.target.checked })}
        />
        bring magnitudes to the standard scale
      </label>
      <Field
        label={`target’s ${indexWords(scale.index)}`}
        value={transform.colour == null ? "" : signed(transform.colour, 2)}
        hint="as measured"
        onSave={(text) => number(text, (colour) => change({ colour }))}
      />
      <Field
        label={`coefficient in ${scale.filter}`}
        value={term ? signed(term.coefficient, 4) : ""}
        hint="as fitted"
        onSave={(text) =>
          number(text, (coefficient) =>
            change({
              given: {
                [scale.filter]:
                  coefficient === null
                    ? null
                    : { coefficient, uncertainty: term?.uncertainty ?? 0, index: scale.index },
              },
            }),
          )
        }
      />
      {term && (
        <Field
          label="its uncertainty"
          value={String(term.uncertainty)}
          onSave={(text) =>
            number(text, (uncertainty) =>
              change({
                given: {
                  [scale.filter]: { ...term, uncertainty: Math.abs(uncertainty ?? 0) },
                },
              }),
            )
          }
        />
      )}
      {term && (
        <Field
          label="its colour index"
          value={term.index}
          hint={`two of ${scale.bands.join(", ")}: ${scale.index}`}
          onSave={(text) =>
            change({
              given: {
                [scale.filter]: { ...term, index: text.replace(/\s/g, "").replace("−", "-") },
              },
            })
          }
        />
      )}
      <Field
        label="second order"
        value={
          transform.second_order[scale.filter] === undefined
            ? ""
            : signed(transform.second_order[scale.filter]!, 3)
        }
        hint="as fitted"
        onSave={(text) =>
          number(text, (value) => change({ second_order: { [scale.filter]: value } }))
        }
      />
      <Field
        label={`extinction in ${scale.filter}`}
        value={
          transform.extinction[scale.filter] === undefined
            ? ""
            : signed(transform.extinction[scale.filter]!, 3)
        }
        hint="as fitted"
        onSave={(text) =>
          number(text, (value) => change({ extinction: { [scale.filter]: value } }))
        }
      />
    </>
  );
}
