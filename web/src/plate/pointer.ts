import { useRef, useState, type PointerEvent, type RefObject } from "react";
import { pointAt, saveSettings } from "../api/actions";
import type { ImageInfo } from "../api/types";
import { pointedAt } from "../stages/correct/defects";
import { useApp } from "../state";
import { NEAR, starAt, withAperture } from "./overlay";
import type { Painter } from "./painter";
import { lookAt, type Look } from "./profile";
import type { Pointed } from "./Readout";
import { drawnTo, edgeAt, measuringWith, type HeldEdge } from "./ring";
import type { useScene } from "./scene";
import { apply, invert, panBy, type Point } from "./view";

const NEAR_PX = 12;
const CLICK_PX = 4;
const EDGE_PX = 5;
const DIVIDER_PX = 8;

/** What is held down: where it began, whether it moved, and what it is. */
interface Held {
  x: number;
  y: number;
  far: boolean;
  divider: boolean;
  /** The pixel from which a defect is marked. */
  mark: Point | null;
  /** The edge of a star's sky ring. */
  edge: HeldEdge | null;
}

interface Plate extends ReturnType<typeof useScene> {
  box: RefObject<HTMLDivElement | null>;
  canvas: RefObject<HTMLCanvasElement | null>;
  painter: RefObject<Painter | null>;
  info: ImageInfo | null;
  width: number;
  /** Whether it is a small one, on which nothing is done. */
  compact: boolean;
  divider: number;
  setDivider: (share: number) => void;
  setPointed: (pointed: Pointed | null) => void;
  setView: (change: (p: Painter) => void) => void;
}

/** What the pointer tells and does on a plate. */
export function usePointer(plate: Plate) {
  const { box, canvas, painter, info, width, scene, exposure, campaign, catalogue, measured } =
    plate;
  const s = useApp();
  const [loupe, setLoupe] = useState<{ at: Point; look: Look | null } | null>(null);
  const [onEdge, setOnEdge] = useState(false);
  const drag = useRef<Held | null>(null);
  /** Where the pointer waits for pixels that are still on their way. */
  const waiting = useRef<Point | null>(null);

  function point(event: PointerEvent): Point {
    const frame = box.current!.getBoundingClientRect();
    return { x: event.clientX - frame.left, y: event.clientY - frame.top };
  }

  /** Mark what lies between where the pointer went down and where it is. */
  function markTo(held: Held, at: Point): void {
    const pixel = painter.current?.pixelAt(at);
    if (!info || !held.mark || !pixel || !s.marking) return;
    s.set({ marked: pointedAt(s.marking, held.mark, pixel, held.far, info) });
  }

  /** The edge of a ring at the pointer, where rings are drawn and may be changed. */
  function edgeHere(at: Point): HeldEdge | null {
    const scale = painter.current?.screenPerPixel() ?? 0;
    const pixel = painter.current?.pixelAt(at);
    if (s.stage !== "measure" || !measured || !pixel || scale <= NEAR) return null;
    const hovered = scene.overlay.hovered;
    const rows = withAperture({ cast: campaign?.cast, star: s.star, hovered });
    return edgeAt(pixel, measured, rows, EDGE_PX / scale);
  }

  function rowAt(at: Point): number | null {
    const p = painter.current;
    return p && exposure?.placed ? starAt(catalogue, p.toScreen(), at.x, at.y, NEAR_PX) : null;
  }

  function pixelOf(row: number): Point | null {
    const [p, i] = [painter.current, catalogue?.row.indexOf(row) ?? -1];
    if (!p || !catalogue || i < 0) return null;
    const place = { x: catalogue.east_arcsec[i]!, y: catalogue.north_arcsec[i]! };
    return p.pixelAt(apply(p.toScreen(), place));
  }

  function leave(): void {
    plate.setPointed(null);
    setLoupe(null);
  }

  function hover(at: Point): void {
    const p = painter.current;
    const plane = p?.current();
    const pixel = p?.pixelAt(at);
    if (!p || !plane || !pixel) return;
    const sky = exposure?.placed ? apply(invert(p.toScreen()), at) : null;
    const row = rowAt(at);
    setOnEdge(edgeHere(at) !== null);
    const value = (x: number, y: number) => plane.value(x, y);
    const inside =
      plane.info &&
      pixel.x > -0.5 &&
      pixel.y > -0.5 &&
      pixel.x < plane.info.width - 0.5 &&
      pixel.y < plane.info.height - 0.5;
    if (!inside) return leave();
    const here = value(Math.round(pixel.x), Math.round(pixel.y));
    waiting.current = here === null ? at : null;
    const [east, north] = [sky?.x ?? null, sky?.y ?? null];
    plate.setPointed({ x: pixel.x, y: pixel.y, value: here, east, north, row });
    // About the star that is named, else about the pointer.
    const middle = (row === null ? null : pixelOf(row)) ?? pixel;
    setLoupe({ at: middle, look: lookAt(value, middle.x, middle.y) });
  }

  function down(event: PointerEvent): void {
    if (event.target !== canvas.current) return;
    event.currentTarget.setPointerCapture(event.pointerId);
    const at = point(event);
    const fromDivider = Math.abs(at.x - width * plate.divider);
    const onDivider = scene.compare !== null && fromDivider < DIVIDER_PX;
    const mark = s.marking ? (painter.current?.pixelAt(at) ?? null) : null;
    drag.current = { ...at, far: false, divider: onDivider, mark, edge: edgeHere(at) };
  }

  function move(event: PointerEvent): void {
    const at = point(event);
    const held = drag.current;
    if (!held) return hover(at);
    if (held.divider) return plate.setDivider(Math.min(Math.max(at.x / width, 0.02), 0.98));
    if (Math.hypot(at.x - held.x, at.y - held.y) > CLICK_PX) held.far = true;
    if (held.mark) return markTo(held, at);
    if (!held.far) return;
    const pixel = painter.current?.pixelAt(at);
    if (held.edge && measured && pixel) {
      const ring = s.ring ?? measured.annulus_px;
      return s.set({ ring: drawnTo(held.edge, pixel, ring, measured.radius_px) });
    }
    plate.setView((p) => (p.view = panBy(p.view!, at.x - held.x, at.y - held.y)));
    drag.current = { ...at, far: true, divider: false, mark: null, edge: null };
  }

  function up(event: PointerEvent): void {
    const held = drag.current;
    drag.current = null;
    if (held?.mark) return markTo(held, point(event));
    if (held?.edge && s.ring && campaign && measured) {
      const measuring = measuringWith(s.ring, measured.annulus_px, campaign.measuring);
      s.set({ ring: null });
      return void saveSettings({ measuring });
    }
    if (!held || held.far || held.divider) return;
    const pixel = painter.current?.pixelAt(point(event));
    if (s.pointing && !plate.compact && pixel && scene.exposure)
      void pointAt(scene.exposure.id, pixel);
    else s.set({ star: rowAt(point(event)) });
  }

  return {
    loupe: drag.current ? null : loupe,
    onEdge,
    /** Look again where pixels were missing. */
    again: () => waiting.current && hover(waiting.current),
    handlers: {
      onPointerDown: down,
      onPointerMove: move,
      onPointerUp: up,
      onPointerLeave: () => {
        waiting.current = null;
        leave();
      },
    },
  };
}
