/**
 * What loads have to do, computed plainly: one key at a time, from the language's page alone. Values
 * are text or null, as they are read back.
 */
export type Value = string | null;
export type Row = Readonly<Record<string, Value>>;
type Mutable = Record<string, Value>;

const same = (a: Row, b: Row, columns: readonly string[]) => columns.every((c) => a[c] === b[c]);

export interface MergeRules {
  readonly key: string;
  readonly columns: readonly string[];
  readonly set?: readonly string[];
  readonly updateWhen?: (q: Row, t: Row) => boolean;
  readonly insertWhen?: (q: Row) => boolean;
  readonly deleteWhen?: (q: Row, t: Row | undefined) => boolean;
  readonly missing: 'keep' | 'delete' | 'flag';
}

/** One row a key. @returns the rows after the load */
export function mergeLoad(table: readonly Row[], query: readonly Row[], rules: MergeRules): Row[] {
  const compared = rules.columns.filter((c) => c !== rules.key && (rules.set?.includes(c) ?? true));
  const kept: Row[] = [];
  for (const t of table) {
    const q = query.find((r) => r[rules.key] === t[rules.key]);
    if (!q) {
      if (rules.missing !== 'delete') kept.push(rules.missing === 'flag' ? { ...t, gone: 't' } : t);
      continue;
    }
    if (rules.deleteWhen?.(q, t)) continue;
    const changes = !same(q, t, compared) || (rules.missing === 'flag' && t['gone'] === 't');
    // Who is back is back, whatever else may not be changed.
    if (!changes || rules.updateWhen?.(q, t) === false) kept.push(rules.missing === 'flag' ? { ...t, gone: 'f' } : t);
    else
      kept.push({
        ...t,
        ...Object.fromEntries(compared.map((c) => [c, q[c]!])),
        ...(rules.missing === 'flag' ? { gone: 'f' } : {}),
      });
  }
  for (const q of query) {
    if (
      table.some((t) => t[rules.key] === q[rules.key]) ||
      rules.deleteWhen?.(q, undefined) ||
      rules.insertWhen?.(q) === false
    )
      continue;
    kept.push({ ...q, ...(rules.missing === 'flag' ? { gone: 'f' } : {}) });
  }
  return kept;
}

/** Columns v and w make versions, o is overwritten, k keeps its first value, pv and po hold what v and o were before. */
export interface HistoryRules {
  readonly scope: 'all' | 'current';
  readonly missing: 'keep' | 'close';
}

const VERSIONED = ['v', 'w'];

/** Versions of one key after a load that finds a row of it, or none. */
export function stateLoad(versions: readonly Row[], row: Row | undefined, now: string, rules: HistoryRules): Row[] {
  const result: Mutable[] = versions.map((v) => ({ ...v }));
  const open = result.find((v) => v['valid_to'] === null);
  const last = result.at(-1);
  if (!row) {
    if (open && rules.missing === 'close') open['valid_to'] = now;
    return result;
  }
  const makes = !open || !same(open, row, VERSIONED);
  const overwrites = (v: Mutable) => {
    if (v['o'] !== row['o']!) Object.assign(v, { po: v['o'], o: row['o'] });
  };
  const before = last && { ...last };
  if (rules.scope === 'all') result.forEach(overwrites);
  else if (!makes) overwrites(open!);
  if (makes) {
    if (open) open['valid_to'] = now;
    result.push({
      v: row['v']!,
      w: row['w']!,
      o: row['o']!,
      k: before ? before['k']! : row['k']!,
      pv: before ? (before['v'] === row['v'] ? before['pv']! : before['v']!) : null,
      po: before ? (before['o'] === row['o'] ? before['po']! : before['o']!) : null,
      valid_from: now,
      valid_to: null,
    });
  }
  return result;
}

/** All versions of one key from all of its events, in any order. */
export function versionsOfEvents(events: readonly Row[], rules: Pick<HistoryRules, 'scope'>): Row[] {
  const byInstant = new Map<string, Row>();
  for (const e of events) {
    const other = byInstant.get(e['at']!);
    if (!other || Number(e['seq']) > Number(other['seq'])) byInstant.set(e['at']!, e);
  }
  const line = [...byInstant.values()].sort((a, b) => (a['at']! < b['at']! ? -1 : 1));
  const versions: Mutable[] = [];
  let [pv, po]: Value[] = [null, null];
  line.forEach((e, i) => {
    const before = line[i - 1];
    if (before && before['v'] !== e['v']) pv = before['v']!;
    if (before && before['o'] !== e['o']) po = before['o']!;
    const open = versions.at(-1);
    if (open && same(open, e, VERSIONED)) {
      Object.assign(open, { o: e['o'], po });
      return;
    }
    if (open) open['valid_to'] = e['at']!;
    versions.push({
      v: e['v']!,
      w: e['w']!,
      o: e['o']!,
      k: line[0]!['k']!,
      pv: pv!,
      po: po!,
      valid_from: e['at']!,
      valid_to: null,
    });
  });
  if (rules.scope === 'all') for (const v of versions) Object.assign(v, { o: line.at(-1)!['o'], po });
  return versions;
}

/** Rows past the greatest watermark that is there, or with a look-back those of it whose key is not there yet. */
export function appendLoad(
  table: readonly Row[],
  query: readonly Row[],
  watermark: string,
  lookBack?: { readonly hours: number; readonly key: string },
): Row[] {
  const greatest = table.reduce<Value>(
    (most, t) => (most === null || t[watermark]! > most ? t[watermark]! : most),
    null,
  );
  const instant = (v: Value) => Date.parse(v!.replace(' ', 'T') + ':00');
  const bound = greatest === null ? -Infinity : instant(greatest) - (lookBack?.hours ?? 0) * 3_600_000;
  const fresh = query.filter((q) => instant(q[watermark]!) > bound);
  return [
    ...table,
    ...(lookBack ? fresh.filter((q) => !table.some((t) => t[lookBack.key] === q[lookBack.key])) : fresh),
  ];
}

/** Dates of the query replace those dates; the newest is current; only so many stay. */
export function datedLoad(table: readonly Row[], query: readonly Row[], copies?: number): Row[] {
  const dates = new Set(query.map((q) => q['as_of']));
  const rows = [...table.filter((t) => !dates.has(t['as_of'])), ...query];
  const known = [...new Set(rows.map((r) => r['as_of']!))].sort().reverse();
  const kept = new Set(copies === undefined ? known : known.slice(0, copies));
  return rows
    .filter((r) => kept.has(r['as_of']!))
    .map((r) => ({ ...r, is_current: r['as_of'] === known[0] ? 't' : 'f' }));
}
