import { useEffect, useState } from "react";
import { keepDefects } from "../../api/actions";
import { useDefects } from "../../api/queries";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Fact, Section } from "../../ui/parts";
import { beyond, markOf, markWords, touched } from "./defects";

interface Props {
  file: number;
  width: number;
  height: number;
}

/** What counts as a defect: tried out here, seen on the plate, and then kept for the camera. */
export function DefectsSection({ file, width, height }: Props) {
  const id = useApp((s) => s.campaign);
  const hot = useApp((s) => s.hot);
  const set = useApp((s) => s.set);
  const { data } = useDefects(id, file);
  const [typed, setTyped] = useState("");
  const [line, setLine] = useState("");
  useEffect(() => () => set({ hot: null }), [set]);
  if (!data) return null;
  const tried = Number(typed.replace(",", "."));
  const threshold = typed && tried >= 3 ? tried : data.threshold;
  const count = beyond(data, threshold);
  const mark = line ? markOf(line, width, height) : null;
  const show = (value: number | null) => set({ hot: value });
  return (
    <Section title="Defects" aside={data.own ? "your rule" : "the camera’s usual rule"}>
      <label className="flex items-center gap-2">
        <span className="shrink-0 text-quiet">hot or cold beyond</span>
        <input
          className="field num"
          aria-label="threshold of defects"
          value={typed}
          placeholder={String(data.threshold)}
          onChange={(event) => {
            setTyped(event.target.value);
            const value = Number(event.target.value.replace(",", "."));
            if (value >= 3) show(value);
          }}
        />
        <span className="text-quiet">σ</span>
      </label>
      <dl className="mt-1.5">
        <Fact name="pixels">
          {data.more && count === data.deviation.length ? "more than " : ""}
          {count.toLocaleString("en")}
        </Fact>
        {data.stars.length > 0 && (
          <Fact name="stars that repair touches">
            {touched(data, threshold)} of {data.stars.length}
          </Fact>
        )}
      </dl>
      {data.marks.map((one) => (
        <p key={one.join()} className="flex gap-2 border-t border-line py-0.5">
          <span className="num">{markWords(one)}</span>
          <button
            className="ml-auto px-1 text-quiet hover:text-ink"
            aria-label={`take out ${markWords(one)}`}
            onClick={() =>
              void keepDefects(
                data.threshold,
                data.marks.filter((m) => m !== one),
              )
            }
          >
            ×
          </button>
        </p>
      ))}
      <input
        className="field num mt-1.5"
        aria-label="a column, row or box to mark"
        placeholder="512 · 512, 100-400 · row 40"
        value={line}
        onChange={(event) => setLine(event.target.value)}
      />
      {line && (
        <p className={`mt-1 text-small ${mark ? "text-quiet" : "text-beam"}`}>
          {mark
            ? markWords(mark)
            : "A column, “row 40”, a part “512, 100-400”, or x y width height"}
        </p>
      )}
      <div className="mt-2 flex flex-wrap gap-2">
        <Button onClick={() => show(hot === null ? threshold : null)} aria-pressed={hot !== null}>
          {hot === null ? "Show them on the plate" : "Hide them"}
        </Button>
        <Button
          main
          disabled={threshold === data.threshold && !mark}
          onClick={() => {
            void keepDefects(threshold, mark ? [...data.marks, mark] : data.marks);
            setTyped("");
            setLine("");
          }}
        >
          Keep
        </Button>
      </div>
    </Section>
  );
}
