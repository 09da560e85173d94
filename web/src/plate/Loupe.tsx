import { useEffect, useRef } from "react";
import { fixed } from "../ui/words";
import type { Painter } from "./painter";
import type { Look } from "./profile";
import type { Point } from "./view";

const WIDTH = 184;
const HEIGHT = 58;

/** Pixels of the image from edge to edge. */
const ACROSS = 37;

interface Props {
  painter: Painter | null;
  at: Point;
  look: Look | null;
}

/** The star at the pointer, large and without marks, with its profile. */
export function Loupe({ painter, at, look }: Props) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    // The plate tells its painter of another look, stretch or exposure after its parts were drawn.
    const frame = requestAnimationFrame(() => {
      const ctx = canvas.current?.getContext("2d");
      if (ctx) painter?.paintAbout(ctx, at, ACROSS, WIDTH);
    });
    return () => cancelAnimationFrame(frame);
  });
  const top = look ? Math.max(look.rings[0]! - look.sky, 1e-9) : 1;
  const points = look?.rings.map((v, r) => {
    const y = HEIGHT - 6 - ((v - look.sky) / top) * (HEIGHT - 14);
    return `${(r / 9) * (WIDTH - 8) + 4},${Math.min(Math.max(y, 3), HEIGHT - 2)}`;
  });
  return (
    <div
      data-testid="loupe"
      className="pointer-events-none w-[186px] rounded-[3px] border border-line bg-ground/95"
    >
      <canvas ref={canvas} width={WIDTH} height={WIDTH} className="block" />
      <svg width={WIDTH} height={HEIGHT} className="block border-t border-line">
        {points && (
          <polyline points={points.join(" ")} fill="none" stroke="var(--beam)" strokeWidth={1.5} />
        )}
      </svg>
      <p className="num border-t border-line px-1.5 py-0.5 text-quiet">
        {look
          ? `${fixed(look.fwhm, 1, "px")} · peak ${fixed(look.peak - look.sky, 0)}`
          : "no star here"}
      </p>
    </div>
  );
}
