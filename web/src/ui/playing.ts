/** The place that is played after one of `count`: over again from the end, or back from there. */
export function playedAfter(
  at: number,
  count: number,
  back: boolean,
  returns: boolean,
): { at: number; back: boolean } {
  if (at < 0 || count < 2) return { at: 0, back: false };
  if (!returns) return { at: (at + 1) % count, back: false };
  const turned = back ? at > 0 : at === count - 1;
  return { at: at + (turned ? -1 : 1), back: turned };
}
