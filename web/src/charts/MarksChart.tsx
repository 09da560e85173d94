import { useCallback, useMemo, useRef, useState } from "react";
import type uPlot from "uplot";
import { Frame } from "../film/Frame";
import { useApp } from "../state";
import { colour, fixed } from "../ui/words";
import { Chart, type Place, type Range } from "./Chart";
import { drawMarks, hitAt, inside, namesOf, type Hit, type Marks } from "./marks";

interface Props {
  marks: Marks[];
  x: Range;
  y: Range;
  label: string;
  lines?: number[];
  rows?: number[];
  rowWords?: string[];
  ofDay?: boolean;
  xAxis?: boolean;
  xLabel?: string;
  digits?: number;
  title?: string;
  /** Moments that are marked at the top, with their words. */
  pins?: readonly { x: number; words: string }[];
  /** Points of others, drawn faintly under one's own. */
  ghosts?: readonly { x: number; y: number }[];
  /** How a point is told of. */
  tell: (hit: Hit) => string;
  className?: string;
  testId?: string;
}

const NEAR_PX = 12;
const CLICK_PX = 4;
const TALL_PX = 140;

/** Points with uncertainties: point at one to see its exposure, draw around some to take them. */
export function MarksChart({ marks, tell, title, pins, ghosts, ...rest }: Props) {
  const beam = useApp((s) => s.beam);
  const selection = useApp((s) => s.selection);
  const set = useApp((s) => s.set);
  const plot = useRef<uPlot | null>(null);
  const [left] = rest.x;
  const names = useMemo(() => namesOf(marks, left), [marks, left]);
  const [loop, setLoop] = useState<[number, number][] | null>(null);
  const [hit, setHit] = useState<{ hit: Hit; x: number; y: number } | null>(null);
  const draw = useCallback(
    (ctx: CanvasRenderingContext2D, place: Place) => {
      const chosen = new Set(selection);
      if (pins?.length) drawPins(ctx, place, pins);
      if (ghosts?.length) drawGhosts(ctx, place, ghosts);
      for (const m of marks) drawMarks(ctx, place, m, beam, chosen);
      for (const { words, x, y, tone } of names) {
        ctx.font = `600 ${12 * place.ratio}px 'Atkinson Hyperlegible Next'`;
        ctx.lineWidth = 3 * place.ratio;
        ctx.textAlign = "left";
        ctx.strokeStyle = colour("--ground");
        ctx.fillStyle = colour(tone);
        const at = [place.x(x) + 4 * place.ratio, place.y(y) - 9 * place.ratio] as const;
        ctx.strokeText(words, ...at);
        ctx.fillText(words, ...at);
      }
    },
    [marks, beam, selection, pins, ghosts, names],
  );

  const to = (scale: "x" | "y") => (v: number) => {
    const u = plot.current!;
    return u.valToPos(v, scale) + (scale === "x" ? u.over.offsetLeft : u.over.offsetTop);
  };

  function at(event: React.PointerEvent): [number, number] {
    const frame = event.currentTarget.getBoundingClientRect();
    return [event.clientX - frame.left, event.clientY - frame.top];
  }

  function finish(drawn: [number, number][], end: [number, number]): void {
    const [start] = drawn;
    if (
      !start ||
      drawn.length < 3 ||
      (Math.hypot(end[0] - start[0], end[1] - start[1]) < CLICK_PX && drawn.length < 6)
    ) {
      const found = hitAt(marks, to("x"), to("y"), ...end, NEAR_PX);
      set(found ? { beam: found.id, selection: [] } : { selection: [] });
      return;
    }
    const ids = new Set<number>();
    for (const m of marks)
      m.x.forEach((x, i) => {
        const y = m.y[i];
        if (y != null && inside(drawn, to("x")(x), to("y")(y))) ids.add(m.ids[i]!);
      });
    set({ selection: [...ids] });
  }

  return (
    <Chart {...rest} reversed onPlace={(u) => (plot.current = u)} draw={draw}>
      <div
        className="absolute inset-0 cursor-crosshair touch-none"
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          setLoop([at(event)]);
        }}
        onPointerMove={(event) => {
          const [x, y] = at(event);
          if (loop) return setLoop([...loop, [x, y]]);
          if (!plot.current) return;
          const found = hitAt(marks, to("x"), to("y"), x, y, NEAR_PX);
          setHit(found ? { hit: found, x, y } : null);
        }}
        onPointerUp={(event) => {
          if (loop && plot.current) finish(loop, at(event));
          setLoop(null);
        }}
        onPointerLeave={() => setHit(null)}
      >
        {title && (
          <span className="pointer-events-none absolute top-0.5 right-4 left-[66px] truncate text-small text-quiet">
            {title}
          </span>
        )}
        {loop && loop.length > 2 && (
          <svg className="pointer-events-none absolute inset-0 h-full w-full">
            <polygon
              points={loop.map((p) => p.join(",")).join(" ")}
              fill={colour("--beam")}
              fillOpacity={0.12}
              stroke={colour("--beam")}
            />
          </svg>
        )}
        {hit && (
          <div
            className="num pointer-events-none absolute z-10 rounded-[3px] border border-line bg-raised px-2 py-1 whitespace-pre"
            style={{
              left: hit.x > 560 ? undefined : hit.x + 14,
              right: hit.x > 560 ? `calc(100% - ${hit.x - 14}px)` : undefined,
              // With its frame it is tall: above the pointer where there is room.
              ...(hit.y > TALL_PX
                ? { bottom: `calc(100% - ${hit.y - 12}px)` }
                : { top: Math.max(hit.y - 30, 2) }),
            }}
          >
            {tell(hit.hit)}
            {hit.hit.id >= 0 && <Frame exposure={hit.hit.id} star={hit.hit.marks.key} />}
          </div>
        )}
      </div>
    </Chart>
  );
}

function drawGhosts(
  ctx: CanvasRenderingContext2D,
  place: Place,
  ghosts: readonly { x: number; y: number }[],
): void {
  ctx.fillStyle = colour("--quiet");
  const r = 1.6 * place.ratio;
  ctx.beginPath();
  for (const ghost of ghosts) {
    const [x, y] = [place.x(ghost.x), place.y(ghost.y)];
    ctx.moveTo(x + r, y);
    ctx.arc(x, y, r, 0, 7);
  }
  ctx.fill();
}

const PIN_PX = 30;

/** A short line from the top down, its words beside it. */
function drawPins(
  ctx: CanvasRenderingContext2D,
  place: Place,
  pins: readonly { x: number; words: string }[],
): void {
  ctx.strokeStyle = ctx.fillStyle = colour("--quiet");
  ctx.lineWidth = place.ratio;
  ctx.font = `${11 * place.ratio}px 'Atkinson Hyperlegible Mono'`;
  ctx.textAlign = "left";
  for (const pin of pins) {
    const x = place.x(pin.x);
    ctx.beginPath();
    ctx.moveTo(x, 18 * place.ratio);
    ctx.lineTo(x, (18 + PIN_PX) * place.ratio);
    ctx.stroke();
    ctx.fillText(pin.words, x + 4 * place.ratio, (18 + 11) * place.ratio);
  }
}

export function tellMagnitude(hit: Hit, name: string): string {
  const { marks, index } = hit;
  const limit = marks.limit[index];
  if (marks.y[index] == null && limit != null)
    return `${name} ${marks.filter}  not seen, fainter than ${fixed(limit, 2)} mag`;
  return `${name} ${marks.filter}  ${fixed(marks.y[index], 4)} ± ${fixed(marks.sigma[index], 4)} mag`;
}
