/** A line of quality on the rail: where exposures stand closer than the eye can part, columns of
 * them by their middle one, with how far they reach. */

export interface LinePoint {
  x: number;
  jd: number;
  night: number | null;
  value: number;
}

export interface Column {
  x: number;
  middle: number;
  low: number;
  high: number;
  count: number;
  /** Whether the line goes on from the column before. */
  joined: boolean;
}

const WIDE_PX = 3;
const PAUSE_H = 0.5;

/** Points in order of time as columns, each within one stretch of a night. */
export function columnsOf(points: readonly LinePoint[]): Column[] {
  const columns: Column[] = [];
  let own: LinePoint[] = [];
  let joined = false;
  const close = () => {
    const values = own.map((p) => p.value).sort((a, b) => a - b);
    const half = values.length >> 1;
    const middle = values.length % 2 ? values[half]! : (values[half - 1]! + values[half]!) / 2;
    const x = own.reduce((sum, p) => sum + p.x, 0) / own.length;
    const [low, high] = [values[0]!, values[values.length - 1]!];
    columns.push({ x, middle, low, high, count: own.length, joined });
  };
  for (const point of points) {
    const last = own[own.length - 1];
    const goesOn =
      last !== undefined && last.night === point.night && (point.jd - last.jd) * 24 < PAUSE_H;
    if (last && goesOn && Math.floor(own[0]!.x / WIDE_PX) === Math.floor(point.x / WIDE_PX)) {
      own.push(point);
      continue;
    }
    if (last) close();
    own = [point];
    joined = goesOn;
  }
  if (own.length) close();
  return columns;
}
