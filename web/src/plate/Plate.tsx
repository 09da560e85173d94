import { useCallback, useEffect, useRef, useState } from "react";
import { pointAt, saveSettings } from "../api/actions";
import type { ImageInfo } from "../api/types";
import { pointedAt } from "../stages/correct/defects";
import { useApp } from "../state";
import { useSize } from "../ui/canvas";
import { Loupe } from "./Loupe";
import { NEAR, starAt, withAperture } from "./overlay";
import { useNeighbours } from "./neighbours";
import { DEFAULT_STRETCH, MASTER_STRETCH, Painter } from "./painter";
import { PlateTools } from "./PlateTools";
import { lookAt, type Look } from "./profile";
import { Readout, type Pointed } from "./Readout";
import { drawnTo, edgeAt, measuringWith, type HeldEdge } from "./ring";
import { useScene } from "./scene";
import { StretchControl } from "./StretchControl";
import { apply, invert, panBy, zoomAt, type Point } from "./view";

const NEAR_PX = 12;
const CLICK_PX = 4;
const EDGE_PX = 5;
/** Width of what a small plate about a star shows. */
const FOCUS_PX = 64;

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
  const painter = useRef<Painter | null>(null);
  const [info, setInfo] = useState<ImageInfo | null>(null);
  const [error, setError] = useState("");
  // What departs to either side matters alike on masters and on what a repair takes.
  const what = s.master === null && !s.residual ? "exposures" : "masters";
  const [stretches, setStretches] = useState(USUAL);
  const stretch = stretches[what];
  const touched = useRef<number | null>(null);
  const [divider, setDivider] = useState(0.5);
  const [pointed, setPointed] = useState<Pointed | null>(null);
  const [loupe, setLoupe] = useState<{ at: { x: number; y: number }; look: Look | null } | null>(
    null,
  );
  const [onEdge, setOnEdge] = useState(false);
  const hovered = pointed?.row ?? null;
  /** Where the pointer waits for pixels that are still on their way. */
  const waiting = useRef<Point | null>(null);
  const again = useRef<(at: Point) => void>(() => {});

  const { scene, unit, exposure, exposures, campaign, catalogue, measured } = useScene(
    stretch,
    divider,
    hovered,
  );
  const placed = exposure?.placed ?? false;

  useEffect(() => {
    if (!canvas.current) return;
    const made = new Painter(canvas.current);
    made.onDrawn = (plane) => {
      setInfo(plane?.info ?? null);
      setError(plane?.error ?? "");
      if (waiting.current) again.current(waiting.current);
    };
    painter.current = made;
    return () => {
      painter.current = null;
    };
  }, []);

  useEffect(() => {
    if (size.width) painter.current?.resize(size.width, size.height);
  }, [size]);

  useEffect(() => {
    const i = focus === null ? -1 : (catalogue?.row.indexOf(focus) ?? -1);
    if (i < 0 || !catalogue || !size.width) return;
    painter.current?.lookAt(catalogue.east_arcsec[i]!, catalogue.north_arcsec[i]!, FOCUS_PX);
  }, [focus, catalogue, size, placed]);

  useEffect(() => {
    painter.current?.show(scene);
    if (touched.current !== null)
      performance.measure("stretch", { start: touched.current, end: performance.now() });
    touched.current = null;
  }, [scene]);

  useNeighbours(painter, exposure, exposures);

  const setView = useCallback((change: (p: Painter) => void) => {
    const p = painter.current;
    if (!p?.view) return;
    change(p);
    p.fitted = false;
    p.schedule();
  }, []);

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
  }, [box, setView]);

  const drag = useRef<Held | null>(null);

  function point(event: React.PointerEvent): { x: number; y: number } {
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

  function hover(at: Point): void {
    const p = painter.current;
    const plane = p?.current();
    const pixel = p?.pixelAt(at);
    if (!p || !plane || !pixel) return;
    const toScreen = p.toScreen();
    const sky = exposure?.placed ? apply(invert(toScreen), at) : null;
    const row = rowAt(at);
    setOnEdge(edgeHere(at) !== null);
    const value = (x: number, y: number) => plane.value(x, y);
    const inside =
      plane.info &&
      pixel.x > -0.5 &&
      pixel.y > -0.5 &&
      pixel.x < plane.info.width - 0.5 &&
      pixel.y < plane.info.height - 0.5;
    if (!inside) {
      setPointed(null);
      setLoupe(null);
      return;
    }
    const here = value(Math.round(pixel.x), Math.round(pixel.y));
    waiting.current = here === null ? at : null;
    setPointed({
      x: pixel.x,
      y: pixel.y,
      value: here,
      east: sky?.x ?? null,
      north: sky?.y ?? null,
      row,
    });
    // About the star that is named, else about the pointer.
    const middle = (row === null ? null : pixelOf(row)) ?? pixel;
    setLoupe({ at: middle, look: lookAt(value, middle.x, middle.y) });
  }
  useEffect(() => {
    again.current = hover;
  });

  return (
    <div
      ref={box}
      data-testid="plate"
      className={`relative h-full w-full touch-none overflow-hidden bg-black select-none ${onEdge ? "cursor-ew-resize" : "cursor-crosshair"}`}
      onPointerDown={(event) => {
        if (event.target !== canvas.current) return;
        event.currentTarget.setPointerCapture(event.pointerId);
        const at = point(event);
        const onDivider = scene.compare !== null && Math.abs(at.x - size.width * divider) < 8;
        const mark = s.marking ? (painter.current?.pixelAt(at) ?? null) : null;
        drag.current = { ...at, far: false, divider: onDivider, mark, edge: edgeHere(at) };
      }}
      onPointerMove={(event) => {
        const at = point(event);
        const held = drag.current;
        if (!held) return hover(at);
        if (held.divider) return setDivider(Math.min(Math.max(at.x / size.width, 0.02), 0.98));
        if (Math.hypot(at.x - held.x, at.y - held.y) > CLICK_PX) held.far = true;
        if (held.mark) return markTo(held, at);
        if (!held.far) return;
        const pixel = painter.current?.pixelAt(at);
        if (held.edge && measured && pixel) {
          const ring = s.ring ?? measured.annulus_px;
          return s.set({ ring: drawnTo(held.edge, pixel, ring, measured.radius_px) });
        }
        setView((p) => (p.view = panBy(p.view!, at.x - held.x, at.y - held.y)));
        drag.current = { ...at, far: true, divider: false, mark: null, edge: null };
      }}
      onPointerUp={(event) => {
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
        if (s.pointing && !compact && pixel && scene.exposure)
          void pointAt(scene.exposure.id, pixel);
        else s.set({ star: rowAt(point(event)) });
      }}
      onPointerLeave={() => {
        waiting.current = null;
        setPointed(null);
        setLoupe(null);
      }}
    >
      <canvas ref={canvas} className="absolute inset-0 h-full w-full" />
      {!compact && (
        <PlateTools scene={scene} exposure={exposure} divider={divider} width={size.width} />
      )}
      <div className="pointer-events-none absolute right-2 bottom-2 flex flex-col items-end gap-2">
        {!compact && loupe && !drag.current && (
          <Loupe painter={painter.current} at={loupe.at} look={loupe.look} />
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
