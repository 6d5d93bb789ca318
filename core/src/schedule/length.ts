const SECONDS: readonly (readonly [RegExp, number])[] = [
  [/^(weeks?|w)$/i, 604_800],
  [/^(days?|d)$/i, 86_400],
  [/^(hours?|hrs?|h)$/i, 3600],
  [/^(minutes?|mins?|m)$/i, 60],
  [/^(seconds?|secs?|s)$/i, 1],
];

/** The seconds of `1 hour 30 minutes` or `90 s`; undefined of what has no fixed length, such as a month. */
export function secondsOf(text: string): number | undefined {
  const parts = [...text.matchAll(/(\d+(?:\.\d+)?)\s*([a-z]+)/gi)];
  if (parts.length === 0 || text.replaceAll(/\d+(?:\.\d+)?\s*[a-z]+/gi, '').trim() !== '') return undefined;
  let seconds = 0;
  for (const [, number, unit] of parts) {
    const of = SECONDS.find(([pattern]) => pattern.test(unit!));
    if (!of) return undefined;
    seconds += Number(number) * of[1];
  }
  return seconds;
}
