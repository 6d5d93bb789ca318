/** The number of single-letter edits between two words, neighbours swapped counting as one. */
export function editDistance(a: string, b: string): number {
  const rows: number[][] = [Array.from({ length: b.length + 1 }, (_, j) => j)];
  for (let i = 1; i <= a.length; i++) {
    const row = [i];
    for (let j = 1; j <= b.length; j++) {
      const same = a[i - 1] === b[j - 1] ? 0 : 1;
      let least = Math.min(rows[i - 1]![j]! + 1, row[j - 1]! + 1, rows[i - 1]![j - 1]! + same);
      if (i > 1 && j > 1 && a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1]) least = Math.min(least, rows[i - 2]![j - 2]! + 1);
      row.push(least);
    }
    rows.push(row);
  }
  return rows[a.length]![b.length]!;
}

/** The name nearest to a wrong one, if any is near enough to be what was meant. */
export function nearest(wrong: string, names: Iterable<string>): string | undefined {
  if (wrong.length < 3) return undefined;
  let best: string | undefined;
  let least = Math.max(1, Math.floor(wrong.length * 0.4)) + 1;
  for (const name of names) {
    const distance = distanceBetween(wrong.toLowerCase(), name.toLowerCase(), least);
    if (distance < least) [best, least] = [name, distance];
  }
  return best;
}

/** A name that holds the other one whole is as near as one with a wrong letter. */
function distanceBetween(a: string, b: string, limit: number): number {
  const contained = b.length >= 3 && (a.includes(b) || b.includes(a)) ? 1 : Infinity;
  return Math.abs(a.length - b.length) >= limit ? contained : Math.min(contained, editDistance(a, b));
}

/** `did you mean x?`, or nothing. */
export function didYouMean(wrong: string, names: Iterable<string>): string | undefined {
  const name = nearest(wrong, names);
  return name === undefined ? undefined : `did you mean ${name}?`;
}
