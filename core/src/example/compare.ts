/** Values of a row, each as a text in the form that the database gives it. */
export type TextRow = readonly (string | null)[];

/** One row of a comparison: as expected, as made, or both where they are about the same thing. */
export interface ComparedRow {
  readonly kind: 'same' | 'differs' | 'missing' | 'extra';
  readonly expected: TextRow | null;
  readonly actual: TextRow | null;
  /** Places of the columns that differ. */
  readonly cells: readonly number[];
}

/** How two values of a column are compared; by default they are texts in one form. */
export type SameValue = (column: number, expected: string | null, actual: string | null) => boolean;

const asText: SameValue = (_, expected, actual) => expected === actual;

/**
 * Compares rows as a multiset. Rows that are left over are put beside each other by their key, or where there is
 * none, by how many of their values are equal.
 * @param key places of the columns that tell rows apart; none where nothing does
 */
export function compareRows(
  expected: readonly TextRow[],
  actual: readonly TextRow[],
  { key, same = asText }: { readonly key: readonly number[]; readonly same?: SameValue },
): readonly ComparedRow[] {
  const left = new Set(actual.keys());
  const rows: (ComparedRow | undefined)[] = [];
  const differing = (e: TextRow, a: TextRow) => e.flatMap((value, at) => (same(at, value, a[at] ?? null) ? [] : [at]));
  const open: number[] = [];
  for (const [i, e] of expected.entries()) {
    const equal = [...left].find((j) => differing(e, actual[j]!).length === 0);
    if (equal === undefined) {
      open.push(i);
      continue;
    }
    left.delete(equal);
    rows[i] = { kind: 'same', expected: e, actual: actual[equal]!, cells: [] };
  }
  for (const i of open) {
    const e = expected[i]!;
    const partner = partnerOf(e, left, actual, { key, same, differing });
    if (partner === undefined) {
      rows[i] = { kind: 'missing', expected: e, actual: null, cells: [] };
      continue;
    }
    left.delete(partner);
    rows[i] = { kind: 'differs', expected: e, actual: actual[partner]!, cells: differing(e, actual[partner]!) };
  }
  const extra = [...left].map((j): ComparedRow => ({ kind: 'extra', expected: null, actual: actual[j]!, cells: [] }));
  return [...(rows as ComparedRow[]), ...extra];
}

/** The row that is about the same thing, if one is. */
function partnerOf(
  row: TextRow,
  left: ReadonlySet<number>,
  actual: readonly TextRow[],
  {
    key,
    same,
    differing,
  }: {
    readonly key: readonly number[];
    readonly same: SameValue;
    readonly differing: (expected: TextRow, actual: TextRow) => readonly number[];
  },
): number | undefined {
  if (key.length > 0)
    return [...left].find((j) => key.every((at) => same(at, row[at] ?? null, actual[j]![at] ?? null)));
  let best: { readonly j: number; readonly differs: number } | undefined;
  for (const j of left) {
    const differs = differing(row, actual[j]!).length;
    if (differs < row.length && (best === undefined || differs < best.differs)) best = { j, differs };
  }
  return best?.j;
}
