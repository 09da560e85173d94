import { extent } from "../../charts/extent";
import { useEffect, useRef } from "react";
import { useApp } from "../../state";
import { useSize } from "../../ui/canvas";
import { colour } from "../../ui/words";

export interface Speck {
  x: number;
  y: number;
  tone: string;
}

/** A curve as small as a stamp: bright is up, the whole range of x and y fills it. */
export function Folded({ specks, label }: { specks: readonly Speck[]; label: string }) {
  const [box, size] = useSize<HTMLDivElement>();
  const canvas = useRef<HTMLCanvasElement>(null);
  const look = useApp((s) => s.look);
  useEffect(() => {
    const at = canvas.current;
    const ctx = at?.getContext("2d");
    if (!at || !ctx || size.width < 8) return;
    const ratio = window.devicePixelRatio || 1;
    at.width = size.width * ratio;
    at.height = size.height * ratio;
    ctx.clearRect(0, 0, at.width, at.height);
    if (!specks.length) return;
    const xs = specks.map((p) => p.x);
    const ys = specks.map((p) => p.y).sort((a, b) => a - b);
    const [left, right] = extent(xs);
    // A few wild points do not set the scale.
    const low = ys[Math.floor(0.01 * ys.length)]!;
    const high = ys[Math.ceil(0.99 * (ys.length - 1))]!;
    const span = Math.max(high - low, 1e-4);
    for (const p of specks) {
      ctx.fillStyle = colour(p.tone);
      const px = 3 + ((p.x - left) / Math.max(right - left, 1e-9)) * (size.width - 6);
      const py = 3 + ((p.y - low) / span) * (size.height - 6);
      ctx.beginPath();
      ctx.arc(px * ratio, py * ratio, 1.3 * ratio, 0, 7);
      ctx.fill();
    }
  }, [specks, size, look]);
  return (
    <div ref={box} className="relative h-full w-full" role="img" aria-label={label}>
      <canvas ref={canvas} className="absolute inset-0 h-full w-full" />
    </div>
  );
}
