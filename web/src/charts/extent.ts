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

/** Numbers along an axis in words, all with as many decimals as the one that needs most, and at
 * least so many. */
export function labelsOf(values: readonly number[], least = 0): string[] {
  const plain = values.map((value) => String(Number(value.toPrecision(10))));
  if (plain.some((text) => text.includes("e"))) return plain.map((text) => text.replace("-", "−"));
  const most = Math.max(least, ...plain.map((text) => text.split(".")[1]?.length ?? 0));
  return values.map((value) => value.toFixed(most).replace("-", "−"));
}

/** Hours of a day as the time of day, also beyond midnight. */
export function timeOfDay(hours: number): string {
  const minutes = ((Math.round(hours * 60) % 1440) + 1440) % 1440;
  const two = (value: number) => String(value).padStart(2, "0");
  return `${two(Math.floor(minutes / 60))}:${two(minutes % 60)}`;
}
