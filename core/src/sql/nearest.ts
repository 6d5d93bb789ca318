/**
 * The number of single-letter edits between two words, neighbours swapped counting as one; `limit` where it is not
 * less. Only cells near the diagonal can hold less than the limit, and only these are computed.
 */
export function editDistance(first: string, second: string, limit = Infinity): number {
  const [a, b] = withoutCommonEnds(first, second);
  if (Math.abs(a.length - b.length) >= limit) return limit;
  const band = Math.min(limit, Math.max(a.length, b.length));
  let [before, last]: [number[], number[]] = [[], Array.from({ length: b.length + 1 }, (_, j) => j)];
  for (let i = 1; i <= a.length; i++) {
    const row: number[] = [i];
    const [from, to] = [Math.max(1, i - band), Math.min(b.length, i + band)];
    let least = i;
    for (let j = from; j <= to; j++) {
      const same = a[i - 1] === b[j - 1] ? 0 : 1;
      let cell = Math.min((last[j] ?? Infinity) + 1, (row[j - 1] ?? Infinity) + 1, (last[j - 1] ?? Infinity) + same);
      if (i > 1 && j > 1 && a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1])
        cell = Math.min(cell, (before[j - 2] ?? Infinity) + 1);
      row[j] = cell;
      if (cell < least) least = cell;
    }
    // A row's least never falls again, but for two swapped letters, which look one row further back.
    if (least > limit) return limit;
    [before, last] = [last, row];
  }
  return Math.min(last[b.length] ?? Infinity, limit);
}

/** Letters that two words share at their beginning and at their end cost nothing. */
function withoutCommonEnds(a: string, b: string): [string, string] {
  let start = 0;
  while (start < a.length && start < b.length && a[start] === b[start]) start++;
  let end = 0;
  while (end < a.length - start && end < b.length - start && a[a.length - 1 - end] === b[b.length - 1 - end]) end++;
  return [a.slice(start, a.length - end), b.slice(start, b.length - end)];
}

/** A name as it is compared: folded, with the set of its letters as bits. */
interface Prepared {
  readonly name: string;
  readonly lower: string;
  readonly letters: number;
}

/** A list of names, prepared once, and what was found nearest in it. */
interface Names {
  readonly size: number;
  readonly prepared: readonly Prepared[];
  readonly found: Map<string, string | undefined>;
}

const known = new WeakMap<object, Names>();

/** Longer names are no slip of the finger, and comparing them takes long. */
const LONGEST_COMPARED = 200;

function lettersOf(text: string): number {
  let bits = 0;
  for (let i = 0; i < text.length; i++) bits |= 1 << (text.charCodeAt(i) & 31);
  return bits;
}

function countBits(bits: number): number {
  let n = bits - ((bits >>> 1) & 0x55555555);
  n = (n & 0x33333333) + ((n >>> 2) & 0x33333333);
  return (((n + (n >>> 4)) & 0x0f0f0f0f) * 0x01010101) >>> 24;
}

const prepare = (name: string): Prepared => {
  const lower = name.toLowerCase();
  return { name, lower, letters: lettersOf(lower) };
};

/** Lists that are asked again and again, sets and arrays, are prepared once. */
function namesOf(names: Iterable<string>): Names {
  const isList = Array.isArray(names) || names instanceof Set;
  const size = Array.isArray(names) ? names.length : names instanceof Set ? names.size : -1;
  const before = isList ? known.get(names) : undefined;
  if (before?.size === size) return before;
  const made: Names = { size, prepared: Array.from(names, prepare), found: new Map() };
  if (isList) known.set(names, made);
  return made;
}

/**
 * The name nearest to a wrong one, if any is near enough to be what was meant. Most names are passed over by their
 * letters alone: each letter that only one of two words has costs an edit.
 */
export function nearest(wrong: string, names: Iterable<string>): string | undefined {
  if (wrong.length < 3 || wrong.length > LONGEST_COMPARED) return undefined;
  const list = namesOf(names);
  if (list.found.has(wrong)) return list.found.get(wrong);
  const { lower, letters } = prepare(wrong);
  let best: string | undefined;
  let least = Math.max(1, Math.floor(wrong.length * 0.4)) + 1;
  for (const other of list.prepared) {
    const [missing, more] = [countBits(letters & ~other.letters), countBits(other.letters & ~letters)];
    const contained =
      (missing === 0 || more === 0) &&
      other.lower.length >= 3 &&
      (lower.includes(other.lower) || other.lower.includes(lower));
    // A name that holds the other one whole is as near as one with a wrong letter.
    const distance = contained
      ? Math.min(1, editDistance(lower, other.lower, 1))
      : Math.max(missing, more) >= least
        ? least
        : editDistance(lower, other.lower, least);
    if (distance < least) [best, least] = [other.name, distance];
    if (least === 0) break;
  }
  list.found.set(wrong, best);
  return best;
}

/** `did you mean x?`, or nothing. */
export function didYouMean(wrong: string, names: Iterable<string>): string | undefined {
  const name = nearest(wrong, names);
  return name === undefined ? undefined : `did you mean ${name}?`;
}
