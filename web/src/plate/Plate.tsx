import { useEffect, useRef, useState } from "react";
import { useApp } from "../state";
import { useSize } from "../ui/canvas";
import { Loupe } from "./Loupe";
import { useMoves } from "./moving";
import { useNeighbours } from "./neighbours";
import { usePainter } from "./painted";
import { DEFAULT_STRETCH, MASTER_STRETCH } from "./painter";
import { PlateTools } from "./PlateTools";
import { usePointer } from "./pointer";
import { Readout, type Pointed } from "./Readout";
import { useScene } from "./scene";
import { StretchControl } from "./StretchControl";

/** Width of what a small plate about a star shows. */
const FOCUS_PX = 64;
const USUAL = { exposures: DEFAULT_STRETCH, masters: MASTER_STRETCH };

/**
 * The image of the exposure under the beam, standing still on the sky. With `focus` a small one
 * about a star, without tools.
 */
export function Plate({ focus = null }: { focus?: number | null }) {
  const s = useApp();
  const compact = focus !== null;
  const [box, size] = useSize<HTMLDivElement>();
  const canvas = useRef<HTMLCanvasElement>(null);
  // What departs to either side matters alike on masters and on what a repair takes.
  const what = s.master === null && !s.residual ? "exposures" : "masters";
  const [stretches, setStretches] = useState(USUAL);
  const stretch = stretches[what];
  const [divider, setDivider] = useState(0.5);
  const [pointed, setPointed] = useState<Pointed | null>(null);

  const shown = useScene(stretch, divider, pointed?.row ?? null);
  const { scene, unit, exposure, exposures, campaign, catalogue, measured } = shown;
  const { painter, info, error, drawn, touched } = usePainter(canvas, size, scene);
  const setView = useMoves(box, painter);
  const pointer = usePointer({
    ...shown,
    box,
    canvas,
    painter,
    info,
    width: size.width,
    compact,
    divider,
    setDivider,
    setPointed,
    setView,
  });
  useNeighbours(painter, exposure, exposures);

  useEffect(() => {
    drawn.current = pointer.again;
  });

  const placed = exposure?.placed ?? false;
  useEffect(() => {
    const i = focus === null ? -1 : (catalogue?.row.indexOf(focus) ?? -1);
    if (i < 0 || !catalogue || !size.width) return;
    painter.current?.lookAt(catalogue.east_arcsec[i]!, catalogue.north_arcsec[i]!, FOCUS_PX);
  }, [painter, focus, catalogue, size, placed]);

  return (
    <div
      ref={box}
      data-testid="plate"
      className={`relative h-full w-full touch-none overflow-hidden bg-black select-none ${pointer.onEdge ? "cursor-ew-resize" : "cursor-crosshair"}`}
      {...pointer.handlers}
    >
      <canvas ref={canvas} className="absolute inset-0 h-full w-full" />
      {!compact && (
        <PlateTools scene={scene} exposure={exposure} divider={divider} width={size.width} />
      )}
      <div className="pointer-events-none absolute right-2 bottom-2 flex flex-col items-end gap-2">
        {!compact && pointer.loupe && (
          <Loupe painter={painter.current} at={pointer.loupe.at} look={pointer.loupe.look} />
        )}
        {!compact && info && (
          <div className="pointer-events-auto">
            <StretchControl
              info={info}
              stretch={stretch}
              usual={USUAL[what]}
              unit={unit}
              onChange={(next) => {
                touched.current = performance.now();
                setStretches({ ...stretches, [what]: next });
              }}
            />
          </div>
        )}
      </div>
      <Readout
        pointed={pointed}
        info={info}
        unit={unit}
        campaign={campaign}
        catalogue={catalogue}
        measured={measured}
        pinned={s.star}
      />
      {error && (
        <p className="absolute inset-x-8 top-1/2 rounded-[3px] border border-trouble bg-ground p-3 text-trouble">
          {error}
        </p>
      )}
    </div>
  );
}
