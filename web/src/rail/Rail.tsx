import { useEffect, useMemo, useRef, useState } from "react";
import { useCampaign, useSky } from "../api/queries";
import { useApp } from "../state";
import { contextOf, useSize } from "../ui/canvas";
import { INSET_LEFT, INSET_RIGHT, toHours, toPixel, useAxis } from "./axis";
import { drawRail, lanesOf } from "./draw";
import { RailFacts } from "./RailFacts";
import { RailLabels } from "./RailLabels";
import { useLimits } from "./qualities";
import { zoomed } from "./timeline";

const CLICK_PX = 4;

/** The night along the bottom of every screen. */
export function Rail() {
  const campaign = useApp((s) => s.campaign);
  const { data } = useCampaign(campaign);
  const { data: sky } = useSky(campaign);
  const axis = useAxis();
  const lines = useApp((s) => s.lines);
  const limits = useLimits();
  const look = useApp((s) => s.look);
  const selection = useApp((s) => s.selection);
  const beam = useApp((s) => s.beam);
  const set = useApp((s) => s.set);
  const [box, size] = useSize<HTMLDivElement>();
  const canvas = useRef<HTMLCanvasElement>(null);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const filters = useMemo(() => data?.filters ?? [], [data]);
  const chosen = useMemo(() => new Set(selection), [selection]);
  const lineFilter = axis.exposures.find((e) => e.id === beam)?.filter ?? filters[0] ?? "";

  useEffect(() => {
    if (!canvas.current || !size.width) return;
    drawRail(contextOf(canvas.current, size), {
      axis,
      sky,
      filters,
      lines,
      limits,
      lineFilter,
      selection: chosen,
      ...size,
    });
  }, [axis, sky, filters, lines, limits, lineFilter, chosen, size, look]);

  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const wheel = (event: WheelEvent) => {
      event.preventDefault();
      const left = element.getBoundingClientRect().left;
      const at = toHours(axis.domain, event.clientX - left, size.width);
      const next = zoomed(axis.domain, at, event.deltaY > 0 ? 1.25 : 0.8, axis.timeline.hours);
      const whole = next[1] - next[0] >= axis.timeline.hours * 0.999;
      set({ domain: whole ? null : next });
    };
    element.addEventListener("wheel", wheel, { passive: false });
    return () => element.removeEventListener("wheel", wheel);
  }, [axis, box, set, size.width]);

  const x = (event: React.PointerEvent) =>
    event.clientX - event.currentTarget.getBoundingClientRect().left;

  function finish(from: number, to: number, y: number): void {
    const lane = lanesOf(filters, size.height).find((l) => y >= l.top - 4 && y <= l.base + 11);
    if (Math.abs(from - to) < CLICK_PX) {
      const hours = toHours(axis.domain, to, size.width);
      const near = axis.exposures
        .filter((e) => !lane || e.filter === lane.filter)
        .map((e) => ({ e, away: Math.abs((axis.hours.get(e.id) ?? 0) - hours) }))
        .sort((a, b) => a.away - b.away)[0];
      if (near) set({ beam: near.e.id, selection: [] });
      return;
    }
    const [low, high] = [from, to].sort((a, b) => a - b) as [number, number];
    set({
      selection: axis.exposures
        .filter((e) => {
          const px = toPixel(axis.domain, axis.hours.get(e.id) ?? 0, size.width);
          return px >= low && px <= high;
        })
        .map((e) => e.id),
    });
  }

  return (
    <footer className="contents" aria-label="rail">
      <RailLabels filters={filters} />
      <div
        ref={box}
        data-testid="rail"
        className="relative border-t border-line touch-none select-none"
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          setDrag([x(event), x(event)]);
        }}
        onPointerMove={(event) => drag && setDrag([drag[0], x(event)])}
        onPointerUp={(event) => {
          const top = event.currentTarget.getBoundingClientRect().top;
          if (drag) finish(drag[0], x(event), event.clientY - top);
          setDrag(null);
        }}
      >
        <canvas ref={canvas} className="absolute inset-0 h-full w-full" />
        <LaneNames filters={filters} height={size.height} />
        {drag && Math.abs(drag[0] - drag[1]) >= CLICK_PX && (
          <div
            className="absolute top-4 bottom-0 border-x border-beam bg-beam/15"
            style={{
              left: Math.min(...drag),
              width: Math.abs(drag[0] - drag[1]),
            }}
          />
        )}
        {!axis.exposures.length && (
          <p className="absolute inset-0 grid place-items-center text-quiet">
            {campaign !== null && axis.loading
              ? "Fetching the night …"
              : "The night will lie here: one stroke for every exposure."}
          </p>
        )}
      </div>
      <RailFacts axis={axis} beam={beam} />
    </footer>
  );
}

function LaneNames({ filters, height }: { filters: string[]; height: number }) {
  return lanesOf(filters, height).map((lane) => (
    <span
      key={lane.filter}
      className="num absolute text-right text-quiet"
      style={{ top: (lane.top + lane.base) / 2 - 9, left: 0, width: INSET_LEFT - 10 }}
    >
      {lane.filter}
    </span>
  ));
}

/** Where the beam stands in the middle column, in pixels; null where it is out of sight. */
export function beamPixel(
  axis: ReturnType<typeof useAxis>,
  beam: number | null,
  width: number,
): number | null {
  const hours = beam === null ? undefined : axis.hours.get(beam);
  if (hours === undefined) return null;
  const x = toPixel(axis.domain, hours, width);
  return x >= INSET_LEFT - 1 && x <= width - INSET_RIGHT + 1 ? x : null;
}
