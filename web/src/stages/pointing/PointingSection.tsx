import { forgetPointed } from "../../api/actions";
import { usePointings } from "../../api/queries";
import type { Pointed } from "../../api/types";
import { say, useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";
import { fixed, shortName } from "../../ui/words";
import { asTable, calledAt, detail } from "./list";

/** The stars that were pointed at, as they were measured on the spot. */
export function PointingSection() {
  const id = useApp((s) => s.campaign);
  const pointing = useApp((s) => s.pointing);
  const set = useApp((s) => s.set);
  const { data } = usePointings(id);
  const stars = data?.pointings ?? [];
  const copy = () =>
    void navigator.clipboard.writeText(asTable(stars, "\t")).then(
      () => say("Copied."),
      () => say("The browser does not let the page copy.", "trouble"),
    );
  return (
    <Section title="Stars pointed at" aside={stars.length ? String(stars.length) : ""}>
      <Button aria-pressed={pointing} onClick={() => set({ pointing: !pointing })}>
        {pointing ? "Pointing: click a star" : "Point at stars"}
      </Button>
      {!stars.length && (
        <p className="mt-1.5 text-quiet">
          Counts, sky, width and signal to noise of any star, with nothing known but the pixels;
          magnitudes too, once the exposure is placed.
        </p>
      )}
      {stars.length > 0 && (
        <>
          <ol className="mt-1.5">
            {stars.map((star) => (
              <Entry key={star.id} star={star} onForget={() => void forgetPointed(star.id)} />
            ))}
          </ol>
          <div className="mt-1.5 flex gap-1">
            <Button onClick={copy}>Copy</Button>
            <a
              className="rounded-[3px] border border-line bg-raised px-2.5 py-1 hover:border-quiet"
              download="stars.csv"
              href={`data:text/csv;charset=utf-8,${encodeURIComponent(asTable(stars, ","))}`}
            >
              CSV
            </a>
            <Button quiet onClick={() => void forgetPointed(0)}>
              Forget all
            </Button>
          </div>
        </>
      )}
    </Section>
  );
}

function Entry({ star, onForget }: { star: Pointed; onForget: () => void }) {
  return (
    <li className="border-t border-line py-1 first:border-t-0">
      <div className="flex items-baseline gap-2">
        <button
          className="min-w-0 truncate hover:text-beam"
          title={`on ${shortName(star.exposure)}`}
          onClick={() => useApp.setState({ beam: star.file_id })}
        >
          {calledAt(star)}
        </button>
        <span className="num ml-auto">
          {star.magnitude !== null
            ? `${star.band} ${fixed(star.magnitude, 3)} ±${fixed(star.magnitude_uncertainty, 3)}`
            : `${fixed(star.counts_adu, 0)} ±${fixed(star.uncertainty_adu, 0)} ADU`}
        </span>
        <button
          className="min-h-6 min-w-6 text-quiet hover:text-ink"
          aria-label={`forget ${calledAt(star)}`}
          onClick={onForget}
        >
          ×
        </button>
      </div>
      <p className="num text-small text-quiet">{detail(star)}</p>
    </li>
  );
}
