import { useEffect, useState } from "react";
import { keepDefects, takeDefectMap } from "../../api/actions";
import { useDefects } from "../../api/queries";
import type { Defects } from "../../api/types";
import { useApp, type Marking } from "../../state";
import { Button } from "../../ui/Button";
import { PathField } from "../../ui/Field";
import { Fact, Section } from "../../ui/parts";
import { beyond, inFile, markOf, markWords, touched } from "./defects";

interface Props {
  file: number;
  width: number;
  height: number;
}

const POINTED: readonly (readonly [Marking, string, string])[] = [
  ["column", "Column", "Click a column, or drag along the part of it that is bad"],
  ["row", "Row", "Click a row, or drag along the part of it that is bad"],
  ["box", "Box", "Drag a box about the pixels that are bad"],
];

/** What counts as a defect: tried out here, seen on the plate, and then kept for the camera. */
export function DefectsSection({ file, width, height }: Props) {
  const id = useApp((s) => s.campaign);
  const { hot, residual, marked, marking, set } = useApp();
  const { data } = useDefects(id, file);
  const [typed, setTyped] = useState("");
  const [line, setLine] = useState("");
  useEffect(() => () => set({ hot: null, residual: false, marking: null, marked: null }), [set]);
  if (!data) return null;
  const tried = Number(typed.replace(",", "."));
  const threshold = typed && tried >= 3 ? tried : data.threshold;
  const count = beyond(data, threshold);
  const mark = marked ? inFile(marked, data) : line ? markOf(line, width, height) : null;
  const keep = (marks: number[][]) => void keepDefects(file, threshold, marks);
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
            if (value >= 3) set({ hot: value });
          }}
        />
        <span className="text-quiet">σ</span>
      </label>
      {data.on_exposures && (
        <p className="mt-1 text-small text-quiet">
          Seen on the median of some exposures, for there is no dark.
        </p>
      )}
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
      <div className="mt-1 mb-2 flex flex-wrap gap-1.5">
        <Button
          aria-pressed={hot !== null}
          onClick={() => set(hot === null ? { hot: threshold } : { hot: null, residual: false })}
        >
          {hot === null ? "Show them on the plate" : "Hide them"}
        </Button>
        <Button
          aria-pressed={residual}
          title="What the repair takes away from this exposure. Hot pixels are specks; where a star shows, it was eaten"
          onClick={() => set({ residual: !residual, hot: residual ? hot : threshold })}
        >
          {residual ? "The exposure again" : "What repair takes"}
        </Button>
      </div>
      <Marks data={data} onTakeOut={(one) => keep(data.marks.filter((m) => m !== one))} />
      <p className="mt-1 flex flex-wrap items-center gap-1.5">
        <span className="text-quiet">point at a</span>
        {POINTED.map(([how, words, title]) => (
          <Button
            key={how}
            aria-pressed={marking === how}
            title={title}
            onClick={() => set({ marking: marking === how ? null : how, marked: null })}
          >
            {words}
          </Button>
        ))}
      </p>
      {marking && !marked && (
        <p className="mt-1 text-small text-beam">{POINTED.find(([how]) => how === marking)![2]}.</p>
      )}
      {!marking && (
        <input
          className="field num mt-1.5"
          aria-label="a column, row or box to mark"
          placeholder="or write 512 · 512, 100-400 · row 40"
          value={line}
          onChange={(event) => setLine(event.target.value)}
        />
      )}
      {(marked || line) && (
        <p className={`mt-1 text-small ${mark ? "" : "text-beam"}`}>
          {mark
            ? markWords(mark)
            : "A column, “row 40”, a part “512, 100-400”, or x y width height"}
        </p>
      )}
      <div className="mt-2 flex flex-wrap gap-1.5">
        <Button
          main
          disabled={threshold === data.threshold && !mark}
          onClick={() => {
            keep(mark ? [...data.marks, mark] : data.marks);
            setTyped("");
            setLine("");
            set({ marked: null });
          }}
        >
          Keep
        </Button>
        {(typed || line || marked) && (
          <Button
            onClick={() => {
              setTyped("");
              setLine("");
              set({ marked: null, ...(hot === null ? {} : { hot: data.threshold }) });
            }}
          >
            As before
          </Button>
        )}
      </div>
      <MapFiles campaign={id!} file={file} />
      <Versions data={data} file={file} />
    </Section>
  );
}

/** What is marked, each to be taken out again; of many the first. */
function Marks(props: { data: Defects; onTakeOut: (mark: number[]) => void }) {
  const { marks } = props.data;
  return (
    <div className="max-h-40 overflow-y-auto">
      {marks.slice(0, 100).map((one) => (
        <p key={one.join()} className="flex gap-2 border-t border-line py-0.5">
          <span className="num">{markWords(one)}</span>
          <button
            className="ml-auto px-1 text-quiet hover:text-ink"
            aria-label={`take out ${markWords(one)}`}
            onClick={() => props.onTakeOut(one)}
          >
            ×
          </button>
        </p>
      ))}
      {marks.length > 100 && <p className="text-quiet">and {marks.length - 100} more</p>}
    </div>
  );
}

/** The map as a file: saved, or taken over from one. */
function MapFiles({ campaign, file }: { campaign: number; file: number }) {
  const map = `/api/campaigns/${campaign}/defects/${file}/map`;
  return (
    <div className="mt-2 border-t border-line pt-1.5">
      <p className="flex gap-3">
        <span className="text-quiet">save</span>
        <a
          className="hover:text-beam"
          href={`${map}?form=fits`}
          title="As an image: not 0 where a pixel is repaired"
        >
          all as FITS
        </a>
        <a
          className="hover:text-beam"
          href={`${map}?form=csv`}
          title="What was marked: x, y, width, height"
        >
          marks as CSV
        </a>
      </p>
      <PathField
        label="marks of a file"
        what="a file of defects"
        files="defects"
        none="CSV or FITS"
        value=""
        onSave={(path) => void takeDefectMap(file, path)}
      />
    </div>
  );
}

/** What was said of the camera's defects before, here or in other campaigns. */
function Versions({ data, file }: { data: Defects; file: number }) {
  if (data.versions.length < 2) return null;
  const now = JSON.stringify([data.threshold, data.marks]);
  return (
    <details className="mt-1.5">
      <summary className="cursor-pointer text-quiet hover:text-ink">
        {data.versions.length} versions for this camera
      </summary>
      <ul className="max-h-48 overflow-y-auto">
        {data.versions.map((one) => {
          const used = JSON.stringify([one.threshold, one.marks]) === now;
          return (
            <li key={one.id} className="flex gap-2 border-t border-line py-0.5">
              <span>
                <span className="num">
                  {one.said.slice(0, 16).replace("T", " ")} · {one.threshold} σ ·{" "}
                  {one.marks.length === 1 ? "1 mark" : `${one.marks.length} marks`}
                </span>
                <span className="block text-small text-quiet">{one.campaign}</span>
              </span>
              {used ? (
                <span className="ml-auto text-small text-quiet">in use</span>
              ) : (
                <Button
                  quiet
                  className="ml-auto px-0! py-0!"
                  onClick={() => void keepDefects(file, one.threshold, one.marks)}
                >
                  take
                </Button>
              )}
            </li>
          );
        })}
      </ul>
    </details>
  );
}
