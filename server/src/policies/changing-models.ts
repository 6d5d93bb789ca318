/**
 * What tables hold after loads and changes of their contracts, computed plainly, one key at a time, from the
 * language's page alone. Columns are distinguished by numbers that stay when their names change.
 */
export type Value = string | null;
export type Values = ReadonlyMap<number, Value>;
export type OnChange = 'version' | 'overwrite' | 'keep';

export interface ModelColumn {
  readonly id: number;
  readonly onChange: OnChange;
}

/** A row of the query. */
export interface Said {
  readonly key: number;
  readonly values: Values;
  /** Of events. */
  readonly at: string;
  readonly seq: number;
  /** Of a copy a date. */
  readonly asOf: string;
}

export interface ModelRow {
  readonly key: number;
  values: Map<number, Value>;
  from: Value;
  to: Value;
  flag: boolean;
}

export interface Rules {
  readonly policy: 'merge' | 'history' | 'events' | 'append' | 'dated' | 'rebuild';
  readonly missing: 'keep' | 'delete' | 'flag' | 'close';
}

const pick = (values: Values, columns: readonly ModelColumn[]) =>
  new Map(columns.map((c) => [c.id, values.get(c.id) ?? null]));
const differs = (a: Values, b: Values, columns: readonly ModelColumn[]) =>
  columns.some((c) => (a.get(c.id) ?? null) !== (b.get(c.id) ?? null));

/** A table that is told what its loads said, and what became of its columns. */
export class ModelTable {
  rows: ModelRow[] = [];
  private events: Said[] = [];

  constructor(private readonly rules: Rules) {}

  startOver(): void {
    this.rows = [];
    this.events = [];
  }

  /** Columns that are gone are forgotten, so that a later one is not taken for them; those that came are null in what is there. */
  change(columns: readonly ModelColumn[]): void {
    for (const row of this.rows) row.values = pick(row.values, columns);
    this.events = this.events.map((e) => ({ ...e, values: pick(e.values, columns) }));
  }

  /** @param columns of the contract @param added those that no load has filled yet @param corrects changes correct what is open */
  load(
    said: readonly Said[],
    columns: readonly ModelColumn[],
    now: string,
    added: ReadonlySet<number>,
    corrects = false,
  ): void {
    const { policy } = this.rules;
    if (policy === 'rebuild') this.rows = said.map((q) => fresh(q, columns));
    if (policy === 'merge') this.merge(said, columns);
    if (policy === 'history') this.history(said, columns, now, corrects);
    if (policy === 'events') this.cut(said, columns, added);
    if (policy === 'append') {
      const greatest =
        this.rows
          .map((r) => r.from!)
          .sort()
          .at(-1) ?? '';
      this.rows.push(...said.filter((q) => q.at > greatest).map((q) => ({ ...fresh(q, columns), from: q.at })));
    }
    if (policy === 'dated') {
      const dates = new Set(said.map((q) => q.asOf));
      this.rows = [
        ...this.rows.filter((r) => !dates.has(r.from!)),
        ...said.map((q) => ({ ...fresh(q, columns), from: q.asOf })),
      ];
    }
  }

  private merge(said: readonly Said[], columns: readonly ModelColumn[]): void {
    const { missing } = this.rules;
    if (missing === 'delete') this.rows = this.rows.filter((r) => said.some((q) => q.key === r.key));
    for (const row of this.rows) {
      const q = said.find((s) => s.key === row.key);
      if (q) row.values = pick(q.values, columns);
      row.flag = missing === 'flag' && !q;
    }
    this.rows.push(...said.filter((q) => !this.rows.some((r) => r.key === q.key)).map((q) => fresh(q, columns)));
  }

  private history(said: readonly Said[], columns: readonly ModelColumn[], now: string, corrects: boolean): void {
    const of = (kind: OnChange) => columns.filter((c) => c.onChange === kind);
    const [versioned, overwritten, kept] = corrects ? [[], columns, []] : [of('version'), of('overwrite'), of('keep')];
    for (const key of new Set([...said, ...this.rows].map((r) => r.key))) {
      const versions = this.rows.filter((r) => r.key === key).sort((a, b) => (a.from! < b.from! ? -1 : 1));
      const open = versions.find((v) => v.to === null);
      const last = versions.at(-1);
      const q = said.find((s) => s.key === key);
      if (!q) {
        if (open && this.rules.missing === 'close') open.to = now;
        continue;
      }
      const makes = !open || differs(open.values, q.values, versioned);
      // What is corrected is corrected in the open version alone; where nothing of the open one changed, older ones are left alone.
      const changed = makes || differs(open.values, q.values, overwritten);
      for (const v of !changed ? [] : !corrects ? versions : open ? [open] : [])
        for (const c of overwritten) v.values.set(c.id, q.values.get(c.id) ?? null);
      if (!makes) continue;
      if (open) open.to = now;
      const row = { ...fresh(q, columns), from: now };
      if (last) for (const c of kept) row.values.set(c.id, last.values.get(c.id) ?? null);
      this.rows.push(row);
    }
  }

  private cut(said: readonly Said[], columns: readonly ModelColumn[], added: ReadonlySet<number>): void {
    const known = columns.filter((c) => !added.has(c.id));
    for (const q of said) {
      const again = this.events.findIndex(
        (e) => e.key === q.key && e.at === q.at && e.seq === q.seq && !differs(e.values, q.values, known),
      );
      const event = { ...q, values: pick(q.values, columns) };
      if (again < 0) this.events.push(event);
      // An event that is told again tells what it holds in columns that it was not asked for before.
      else if (added.size) this.events[again] = event;
    }
    this.rows = [];
    for (const key of new Set(this.events.map((e) => e.key))) {
      const mine = this.events
        .filter((e) => e.key === key)
        .sort((a, b) => (a.at === b.at ? b.seq - a.seq : a.at < b.at ? -1 : 1));
      const line = mine.filter((e, i) => mine[i - 1]?.at !== e.at);
      const of = (kind: OnChange) => columns.filter((c) => c.onChange === kind);
      const versions: ModelRow[] = [];
      for (const e of line) {
        const open = versions.at(-1);
        if (open && !differs(open.values, e.values, of('version'))) continue;
        if (open) open.to = e.at;
        versions.push({ ...fresh(e, columns), from: e.at });
      }
      for (const v of versions) {
        for (const c of of('overwrite')) v.values.set(c.id, line.at(-1)!.values.get(c.id) ?? null);
        for (const c of of('keep')) v.values.set(c.id, line[0]!.values.get(c.id) ?? null);
      }
      this.rows.push(...versions);
    }
  }
}

const fresh = (q: Said, columns: readonly ModelColumn[]): ModelRow => ({
  key: q.key,
  values: pick(q.values, columns),
  from: null,
  to: null,
  flag: false,
});
