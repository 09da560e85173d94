import { useCallback, useEffect, type RefObject } from "react";
import type { Painter } from "./painter";
import { zoomAt } from "./view";

/**
 * The view moved by the wheel, and from elsewhere on the page: to the whole image, to one pixel a
 * pixel, to a place on the sky. Returns what changes it otherwise.
 */
export function useMoves(
  box: RefObject<HTMLDivElement | null>,
  painter: RefObject<Painter | null>,
): (change: (p: Painter) => void) => void {
  const setView = useCallback(
    (change: (p: Painter) => void) => {
      const p = painter.current;
      if (!p?.view) return;
      change(p);
      p.fitted = false;
      p.schedule();
    },
    [painter],
  );

  useEffect(() => {
    const fitImage = () => {
      if (painter.current) {
        painter.current.view = null;
        painter.current.draw();
      }
    };
    const element = box.current;
    const wheel = (event: WheelEvent) => {
      event.preventDefault();
      const frame = element!.getBoundingClientRect();
      const at = { x: event.clientX - frame.left, y: event.clientY - frame.top };
      setView((p) => {
        const factor = Math.exp(-event.deltaY * 0.0016);
        p.view = zoomAt(p.view!, at, factor, { width: frame.width, height: frame.height });
      });
    };
    const oneToOne = () => painter.current?.oneToOne();
    const look = (event: Event) => {
      const { east, north } = (event as CustomEvent<{ east: number; north: number }>).detail;
      painter.current?.centre(east, north);
    };
    window.addEventListener("beacon-fit", fitImage);
    window.addEventListener("beacon-one", oneToOne);
    window.addEventListener("beacon-look", look);
    element?.addEventListener("wheel", wheel, { passive: false });
    return () => {
      window.removeEventListener("beacon-fit", fitImage);
      window.removeEventListener("beacon-one", oneToOne);
      window.removeEventListener("beacon-look", look);
      element?.removeEventListener("wheel", wheel);
    };
  }, [box, painter, setView]);

  return setView;
}
