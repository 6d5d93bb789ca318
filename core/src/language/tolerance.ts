/** How many rows at fault are let pass: a count, or a share of all rows (0 to 1). */
export type Tolerance =
  { readonly kind: 'count'; readonly count: number } | { readonly kind: 'share'; readonly share: number };

/** Reads `3` or `0.5%`; undefined if it is neither. */
export function readTolerance(text: string): Tolerance | undefined {
  const match = /^\s*(\d+(?:\.\d+)?)\s*(%?)\s*$/.exec(text);
  if (!match) return undefined;
  return match[2] ? { kind: 'share', share: Number(match[1]) / 100 } : { kind: 'count', count: Number(match[1]) };
}

/** Reads `constraint: 0.5%, other: 3`, the value of a table's `tolerate` option. */
export function readTolerances(text: string): ReadonlyMap<string, Tolerance> {
  const tolerances = new Map<string, Tolerance>();
  for (const part of text.split(',')) {
    const [name = '', value = ''] = part.split(':');
    const tolerance = readTolerance(value);
    if (name.trim() && tolerance) tolerances.set(name.trim(), tolerance);
  }
  return tolerances;
}

/** The constraint names in the value of `advisory` or `tolerate`. */
export function constraintNames(text: string): string[] {
  return text
    .split(',')
    .map((part) => part.split(':')[0]!.trim())
    .filter((name) => name !== '');
}
