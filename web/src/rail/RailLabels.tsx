import { useApp, type Quality } from "../state";
import { fixed } from "../ui/words";
import { useAxis } from "./axis";
import { qualityRange } from "./draw";

export const QUALITIES: Record<Quality, { words: string; unit: string; digits: number }> = {
  fwhm_px: { words: "star width", unit: "px", digits: 1 },
  sky_adu_per_px: { words: "sky", unit: "ADU", digits: 0 },
  elongation: { words: "elongation", unit: "", digits: 2 },
  stars: { words: "stars", unit: "", digits: 0 },
  drift_arcsec: { words: "drift", unit: "″", digits: 0 },
  zero_point: { words: "zero point", unit: "mag", digits: 2 },
  transparency: { words: "transparency", unit: "", digits: 2 },
  airmass: { words: "airmass", unit: "", digits: 2 },
};

/** Left of the rail: which quality the line shows, and its range. */
export function RailLabels({ filters }: { filters: string[] }) {
  const quality = useApp((s) => s.quality);
  const domain = useApp((s) => s.domain);
  const set = useApp((s) => s.set);
  const { exposures } = useAxis();
  const range = qualityRange(exposures, quality);
  const q = QUALITIES[quality];
  if (!filters.length) return <div className="border-t border-line bg-panel" />;
  return (
    <div className="flex flex-col gap-1 border-t border-line bg-panel px-1.5 py-1.5 text-small">
      <label className="text-quiet" htmlFor="quality">
        line <span aria-hidden>▾</span>
      </label>
      <select
        id="quality"
        className="field appearance-none px-1! py-0.5! text-small"
        value={quality}
        onChange={(event) => set({ quality: event.target.value as Quality })}
      >
        {Object.entries(QUALITIES).map(([key, value]) => (
          <option key={key} value={key}>
            {value.words}
          </option>
        ))}
      </select>
      {range && (
        <span className="num text-quiet" title="lowest and highest of the line">
          {fixed(range[0], q.digits)}–{fixed(range[1], q.digits)}
          <br />
          {q.unit}
        </span>
      )}
      {domain && (
        <button className="mt-auto text-left text-beam" onClick={() => set({ domain: null })}>
          all of it
        </button>
      )}
    </div>
  );
}
