/**
 * Where things are on the plate. Three kinds of coordinates: pixels of an exposure (0-based, y up),
 * the plane of the sky in seconds of arc east and north of the target, and the screen.
 */

/** (a, b, c, d, e, f): x' = a x + b y + c, y' = d x + e y + f. */
export type Affine = readonly [number, number, number, number, number, number];

/** What is seen: the middle of the screen on the plane, pixels a second of arc, and the turn. */
export interface View {
  east: number;
  north: number;
  zoom: number;
  turn: number;
}

export interface Point {
  x: number;
  y: number;
}

export function apply(m: Affine, { x, y }: Point): Point {
  return { x: m[0] * x + m[1] * y + m[2], y: m[3] * x + m[4] * y + m[5] };
}

/** First `inner`, then `outer`. */
export function compose(outer: Affine, inner: Affine): Affine {
  const [a, b, c, d, e, f] = outer;
  const [p, q, r, s, t, u] = inner;
  return [
    a * p + b * s,
    a * q + b * t,
    a * r + b * u + c,
    d * p + e * s,
    d * q + e * t,
    d * r + e * u + f,
  ];
}

export function invert([a, b, c, d, e, f]: Affine): Affine {
  const det = a * e - b * d;
  return [e / det, -b / det, (b * f - c * e) / det, -d / det, a / det, (c * d - a * f) / det];
}

/** From the plane to the screen: north up and east left where nothing is turned. */
export function screenOf(view: View, width: number, height: number): Affine {
  const [s, c] = [Math.sin(view.turn), Math.cos(view.turn)];
  const k = view.zoom;
  const m: Affine = [-k * c, k * s, 0, -k * s, -k * c, 0];
  const middle = apply(m, { x: view.east, y: view.north });
  return [m[0], m[1], width / 2 - middle.x, m[3], m[4], height / 2 - middle.y];
}

/** A stand-in for an exposure that is not placed: its pixels as they are, y up. */
export function unplaced(width: number, height: number): Affine {
  return [-1, 0, (width - 1) / 2, 0, 1, -(height - 1) / 2];
}

/** The turn that puts an exposure's y axis upright. */
export function turnOf(plane: Affine): number {
  return Math.atan2(plane[1], plane[4]);
}

export function scaleOf(m: Affine): number {
  return Math.sqrt(Math.abs(m[0] * m[4] - m[1] * m[3]));
}

/** The view that shows all of an image. */
export function fit(
  plane: Affine,
  image: { width: number; height: number },
  screen: { width: number; height: number },
  turn: number,
): View {
  const middle = apply(plane, { x: (image.width - 1) / 2, y: (image.height - 1) / 2 });
  const probe = screenOf({ east: 0, north: 0, zoom: 1, turn }, 0, 0);
  const corners = [
    [0, 0],
    [image.width, 0],
    [0, image.height],
    [image.width, image.height],
  ].map(([x, y]) => apply(compose(probe, plane), { x: x! - 0.5, y: y! - 0.5 }));
  const span = (values: number[]) => Math.max(...values) - Math.min(...values);
  const zoom = Math.min(
    screen.width / span(corners.map((p) => p.x)),
    screen.height / span(corners.map((p) => p.y)),
  );
  return { east: middle.x, north: middle.y, zoom, turn };
}

/** The view after zooming by a factor with the point under the pointer standing still. */
export function zoomAt(
  view: View,
  pointer: Point,
  factor: number,
  screen: { width: number; height: number },
): View {
  const before = apply(invert(screenOf(view, screen.width, screen.height)), pointer);
  const next = { ...view, zoom: view.zoom * factor };
  const after = apply(invert(screenOf(next, screen.width, screen.height)), pointer);
  return { ...next, east: view.east + before.x - after.x, north: view.north + before.y - after.y };
}

export function panBy(view: View, dx: number, dy: number): View {
  const back = invert(screenOf(view, 0, 0));
  const from = apply(back, { x: 0, y: 0 });
  const to = apply(back, { x: -dx, y: -dy });
  return { ...view, east: view.east + to.x - from.x, north: view.north + to.y - from.y };
}
