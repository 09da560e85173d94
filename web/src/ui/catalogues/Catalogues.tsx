import { useState } from "react";
import { changeCatalogue, removeCatalogue } from "../../api/actions";
import { useCatalogues } from "../../api/queries";
import type { StarSource } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../Button";
import { dayOf, plural } from "../words";
import { AddCatalogue } from "./AddCatalogue";
import { ColumnTable } from "./ColumnTable";
import type { Meaning } from "./meaning";

/** The observatory's catalogues in the order in which they are tried, and what is known to vary. */
export function Catalogues() {
  const { data } = useCatalogues();
  const [adding, setAdding] = useState(false);
  if (!data) return null;
  if (adding) return <AddCatalogue onDone={() => setAdding(false)} />;
  const of = (role: string) => data.sources.filter((source) => source.role === role);
  return (
    <>
      <div className="min-h-0 overflow-y-auto" tabIndex={0} aria-label="catalogues">
        {of("stars").length ? (
          <List
            title="Stars"
            aside="tried from the top, where a campaign has no catalogue of its own"
            sources={of("stars")}
          />
        ) : (
          <p className="mb-2 max-w-xl text-quiet">
            No catalogue yet. A file of any size becomes an atlas: all campaigns find their stars in
            it by position, and exposures of which nothing is known are placed by it. A service is
            asked once for each part of the sky.
          </p>
        )}
        {of("variables").length > 0 && (
          <List
            title="Known variables"
            aside="marked on the plate; none becomes a comparison star"
            sources={of("variables")}
          />
        )}
      </div>
      <Button className="self-start" onClick={() => setAdding(true)}>
        Add a catalogue
      </Button>
    </>
  );
}

function List(props: { title: string; aside: string; sources: StarSource[] }) {
  return (
    <section className="mb-4" aria-label={props.title}>
      <h3 className="font-semibold">
        {props.title} <span className="font-normal text-quiet">{props.aside}</span>
      </h3>
      {props.sources.map((source, n) => (
        <Entry key={source.id} source={source} place={n} />
      ))}
    </section>
  );
}

function Entry({ source, place }: { source: StarSource; place: number }) {
  const campaign = useApp((s) => s.campaign);
  const [said, setSaid] = useState<Meaning | null>(null);
  const change = (values: Parameters<typeof changeCatalogue>[1]) =>
    void changeCatalogue(source.id, values);
  return (
    <div className="border-t border-line py-2">
      <div className="flex items-baseline gap-3">
        {source.role === "stars" && <span className="num w-4 text-quiet">{place + 1}</span>}
        <span className="min-w-0 flex-1">
          <span className="block truncate font-semibold" title={source.place}>
            {source.name}
          </span>
          <span
            className={`num block ${source.state === "failed" ? "text-trouble" : "text-quiet"}`}
          >
            {standing(source)}
          </span>
        </span>
        {place > 0 && source.role === "stars" && (
          <Button quiet onClick={() => change({ earlier: true })}>
            try it sooner
          </Button>
        )}
        <Button
          quiet
          aria-pressed={said !== null}
          onClick={() => setSaid(said ? null : { ...source.columns })}
        >
          columns
        </Button>
        <Button
          quiet
          title={source.kind === "file" ? "Read the file again" : "Forget what it sent"}
          onClick={() => change({ again: true })}
        >
          {source.kind === "file" ? "make again" : "ask anew"}
        </Button>
        <Button quiet onClick={() => void removeCatalogue(source.id)}>
          take out
        </Button>
      </div>
      {said && (
        <div className="mt-2 flex max-h-72 flex-col gap-2 pl-7">
          <ColumnTable
            look={{
              kind: source.kind as "file" | "service",
              role: source.role as "stars" | "variables",
              place: source.place,
              campaign,
            }}
            said={said}
            onSay={(columns) => {
              setSaid(columns);
              change({ columns });
            }}
          />
        </div>
      )}
    </div>
  );
}

/** What it is and how it stands, in words. */
export function standing(source: StarSource): string {
  if (source.state === "failed") return source.words;
  if (source.state === "making")
    return source.words === "finding patterns"
      ? `being made: finding patterns, ${source.done}%`
      : `being made: ${source.words || "waiting"}${source.done ? `, ${source.done.toLocaleString("en")} rows` : ""}`;
  if (source.kind === "service")
    return source.kept
      ? `service · ${plural(source.kept, "part")} of the sky kept, the oldest from ${dayOf(source.kept_from!)}`
      : "service · nothing asked yet";
  const told = [
    `${source.stars.toLocaleString("en")} stars`,
    source.bands.join(" "),
    source.epoch_yr ? `epoch ${source.epoch_yr}` : "",
    `${Math.max(1, Math.round(source.megabytes))} MB`,
    source.anywhere ? "places exposures anywhere" : "",
  ];
  return told.filter(Boolean).join(" · ");
}
