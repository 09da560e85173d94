import { useEffect, useMemo, useRef, useState } from "react";
import { useCampaign, useCatalogue } from "../api/queries";
import { useApp } from "../state";
import { positionOf } from "./position";
import { planeOf } from "./sky";

const MOST = 7;

/** A star by its name, or a place by its position in any spelling: typed, and the plate goes there. */
export function Find() {
  const s = useApp();
  const { data: campaign } = useCampaign(s.campaign);
  const { data: catalogue } = useCatalogue(s.campaign);
  const [text, setText] = useState("");
  const box = useRef<HTMLInputElement>(null);
  useEffect(() => box.current?.focus(), []);

  const wanted = text.toLowerCase().replace(/\s+/g, "");
  const stars = useMemo(() => {
    if (!catalogue || wanted.length < 1) return [];
    const found = catalogue.name
      .map((name, i) => ({ name, i, plain: name.toLowerCase().replace(/\s+/g, "") }))
      .filter(({ plain }) => plain.includes(wanted));
    return found.sort((a, b) => a.plain.length - b.plain.length).slice(0, MOST);
  }, [catalogue, wanted]);
  const position = positionOf(text);
  const target = campaign?.target;
  const there =
    position && target?.ra_deg != null && target.dec_deg != null
      ? planeOf(position.ra, position.dec, target.ra_deg, target.dec_deg)
      : null;

  function go(east: number, north: number, star: number | null): void {
    window.dispatchEvent(new CustomEvent("beacon-look", { detail: { east, north } }));
    s.set({ star, finding: false });
  }
  const goTo = (i: number) =>
    go(catalogue!.east_arcsec[i]!, catalogue!.north_arcsec[i]!, catalogue!.row[i]!);

  return (
    <div className="absolute top-9 right-2 z-10 w-80 rounded-[3px] border border-line bg-panel p-2">
      <input
        ref={box}
        className="field"
        aria-label="find a star or a position"
        placeholder="a star’s name, or 19 41 02.6 +38 12 44"
        value={text}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => {
          if (event.key === "Escape") s.set({ finding: false });
          if (event.key !== "Enter") return;
          if (there) go(there.east, there.north, null);
          else if (stars[0]) goTo(stars[0].i);
        }}
      />
      {there && (
        <button
          className="mt-1 block min-h-6 w-full text-left text-beam"
          onClick={() => go(there.east, there.north, null)}
        >
          go to this position
        </button>
      )}
      {stars.map(({ name, i }) => (
        <button
          key={i}
          className="block min-h-6 w-full truncate text-left hover:text-beam"
          onClick={() => goTo(i)}
        >
          {name}
        </button>
      ))}
      {text && !there && !stars.length && (
        <p className="mt-1 text-small text-quiet">
          {position
            ? "That position is far from this field."
            : "No star of the catalogue has that name, and it is no position."}
        </p>
      )}
    </div>
  );
}
