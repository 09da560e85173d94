import { useEffect, useRef, useState, type RefObject } from "react";
import type { ImageInfo } from "../api/types";
import { Painter, type Scene } from "./painter";

/** The painter of a canvas, which draws what the scene says, and what is known of the image. */
export function usePainter(
  canvas: RefObject<HTMLCanvasElement | null>,
  size: { width: number; height: number },
  scene: Scene,
) {
  const painter = useRef<Painter | null>(null);
  const [info, setInfo] = useState<ImageInfo | null>(null);
  const [error, setError] = useState("");
  /** To be called whenever it has drawn. */
  const drawn = useRef<() => void>(() => {});
  /** When the stretch was touched that is not drawn yet. */
  const touched = useRef<number | null>(null);

  useEffect(() => {
    if (!canvas.current) return;
    const made = new Painter(canvas.current);
    made.onDrawn = (plane) => {
      setInfo(plane?.info ?? null);
      setError(plane?.error ?? "");
      drawn.current();
    };
    painter.current = made;
    return () => {
      painter.current = null;
    };
  }, [canvas]);

  useEffect(() => {
    if (size.width) painter.current?.resize(size.width, size.height);
  }, [size]);

  useEffect(() => {
    painter.current?.show(scene);
    if (touched.current !== null)
      performance.measure("stretch", { start: touched.current, end: performance.now() });
    touched.current = null;
  }, [scene]);

  return { painter, info, error, drawn, touched };
}
