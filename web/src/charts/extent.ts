/** The lowest and the highest of some numbers, however many: as arguments of a function a hundred
 * thousand are too many. NaN counts for nothing; of nothing it is +∞ and −∞. */
export function extent(values: Iterable<number>): [low: number, high: number] {
  let [low, high] = [Infinity, -Infinity];
  for (const value of values) {
    if (value < low) low = value;
    if (value > high) high = value;
  }
  return [low, high];
}
