import { useEffect, useRef, useState } from "react";
import { useApp } from "../state";
import { Plane, type Shown } from "./images";

/** A small picture of an image as the plate would show it, in the look of the page. */
export function SmallPicture({ shown, width }: { shown: Shown; width: number }) {
  const look = useApp((s) => s.look);
  const canvas = useRef<HTMLCanvasElement>(null);
  const [drawn, setDrawn] = useState(0);
  const { kind, id, off, version } = shown;
  const plane = useRef<Plane | null>(null);
  useEffect(() => {
    const own = new Plane({ kind, id, off, version }, () => setDrawn((n) => n + 1));
    plane.current = own;
    void own.ready.then(() => own.load(Math.max((own.info?.levels ?? 1) - 1, 0)));
  }, [kind, id, off, version]);
  useEffect(() => {
    const [own, ctx] = [plane.current, canvas.current?.getContext("2d")];
    if (!own?.info || !ctx) return;
    const scale = ctx.canvas.width / own.info.width;
    ctx.canvas.height = Math.round(own.info.height * scale);
    ctx.setTransform(scale, 0, 0, scale, 0, 0);
    own.draw(ctx, own.info.levels - 1, { low: own.info.low, high: own.info.high }, look);
  }, [drawn, look]);
  return (
    <canvas
      ref={canvas}
      width={2 * width}
      height={Math.round(1.5 * width)}
      style={{ width }}
      className="block bg-black"
      aria-hidden
    />
  );
}
