import { useEffect, useMemo, useRef, useState } from "react";
import { useCatalogue, useExposures, useMeasured } from "../../api/queries";
import { useApp } from "../../state";
import { contextOf, useSize } from "../../ui/canvas";
import { Chips, Section } from "../../ui/parts";
import { colour, fixed } from "../../ui/words";
import { medians, residualsOf, type Against } from "./residuals";

const AGAINST: { key: Against; words: string }[] = [
  { key: "magnitude", words: "magnitude" },
  { key: "colour", words: "colour" },
  { key: "radius", words: "radius" },
];
const [LEFT, FOOT, TOP, PARTS] = [34, 20, 6, 6];
const LEAST = 8;

/** How far stars sit from their places, against brightness, colour and distance from the middle. */
export function ResidualSection() {
  const id = useApp((s) => s.campaign);
  const beam = useApp((s) => s.beam);
  const look = useApp((s) => s.look);
  const { data } = useExposures(id);
  const { data: catalogue } = useCatalogue(id);
  const { data: measured } = useMeasured(id, beam);
  const [against, setAgainst] = useState<Against>("magnitude");
  const exposure = data?.exposures.find((e) => e.id === beam);
  const all = useMemo(
    () =>
      measured && catalogue && exposure ? residualsOf(measured, catalogue, exposure, against) : [],
    [measured, catalogue, exposure, against],
  );
  const [box, size] = useSize<HTMLDivElement>();
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    if (!canvas.current || !size.width || all.length < LEAST) return;
    const ctx = contextOf(canvas.current, size);
    const sorted = all.map((r) => r.away).sort((a, b) => a - b);
    const high = sorted[Math.floor(sorted.length * 0.95)]! * 1.15 || 0.1;
    const [low, wide] = [all[0]!.at, all.at(-1)!.at - all[0]!.at || 1];
    const x = (v: number) => LEFT + ((v - low) / wide) * (size.width - LEFT - 6);
    const y = (v: number) =>
      size.height - FOOT - (Math.min(v, high) / high) * (size.height - FOOT - TOP);
    ctx.clearRect(0, 0, size.width, size.height);
    ctx.font = "11px 'Atkinson Hyperlegible Mono'";
    ctx.fillStyle = colour("--quiet");
    ctx.strokeStyle = colour("--line");
    ctx.lineWidth = 1;
    for (const v of [0, high / 2, high]) {
      ctx.beginPath();
      ctx.moveTo(LEFT, Math.round(y(v)) + 0.5);
      ctx.lineTo(size.width - 6, Math.round(y(v)) + 0.5);
      ctx.stroke();
      ctx.textAlign = "right";
      ctx.textBaseline = "middle";
      ctx.fillText(v.toFixed(2), LEFT - 4, Math.max(y(v), 8));
    }
    ctx.textBaseline = "bottom";
    const digits = against === "radius" ? 0 : 1;
    ctx.textAlign = "left";
    ctx.fillText(fixed(low, digits), LEFT, size.height - 2);
    ctx.textAlign = "right";
    ctx.fillText(
      `${fixed(low + wide, digits)} ${against === "radius" ? "px" : "mag"}`,
      size.width - 4,
      size.height - 2,
    );
    ctx.fillStyle = colour("--comparison");
    for (const r of all) ctx.fillRect(x(r.at) - 1, y(r.away) - 1, 2, 2);
    ctx.strokeStyle = colour("--beam");
    ctx.lineWidth = 1.5;
    ctx.beginPath();
    medians(all, PARTS).forEach((r, i) =>
      i ? ctx.lineTo(x(r.at), y(r.away)) : ctx.moveTo(x(r.at), y(r.away)),
    );
    ctx.stroke();
  }, [all, size, look, against]);
  const none = !measured?.row.length;
  return (
    <Section title="Beside their places" aside="px">
      {none && <p className="text-quiet">Known once this exposure is measured.</p>}
      <Chips label="against what" options={AGAINST} value={against} onChange={setAgainst} />
      {!none && all.length < LEAST && (
        <p className="mt-1 text-quiet">
          Too few stars have {against === "colour" ? "two magnitudes" : "enough light"}.
        </p>
      )}
      <div ref={box} className={all.length < LEAST ? "" : "relative mt-1 h-36"}>
        <canvas
          ref={canvas}
          className="absolute inset-0 h-full w-full"
          hidden={all.length < LEAST}
          role="img"
          aria-label={`residuals of ${all.length} stars against ${against}`}
        />
      </div>
      <p className="mt-1 text-small text-quiet">
        Each star, and the median over sixths of them. A rise to faint stars is noise; one with
        colour is the air, one with radius the optics.
      </p>
    </Section>
  );
}
