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

/** Numbers along an axis in words, all with as many decimals as the one that needs most. */
export function labelsOf(values: readonly number[], digits?: number): string[] {
  const plain = values.map((value) => String(Number(value.toPrecision(10))));
  const most = Math.max(0, ...plain.map((text) => text.split(".")[1]?.length ?? 0));
  const small = plain.some((text) => text.includes("e"));
  return values.map((value, n) =>
    (small && digits === undefined ? plain[n]! : value.toFixed(digits ?? most)).replace("-", "−"),
  );
}
