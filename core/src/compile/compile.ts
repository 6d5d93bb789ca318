import { withLeadingWords } from '../sql/leading-words.js';
import { readCondition } from '../index/condition.js';
import type { IndexedFile, MomentMention, Project, ProjectFunction, Query, TableMention } from '../model/project.js';
import { applyEdits, type Edit, type EditedText } from '../sql/edits.js';
import { ident, literal, qualified } from '../sql/quote.js';
import type { Place } from '../model/place.js';
import { inlinedName } from './inlined-name.js';

/**
 * Compiles the author's text for an environment: names are replaced at their tokens, all else stays
 * as written. Every compiled text knows the way back to the author's offsets.
 */
export interface Names {
  /** Where a table is read; undefined where its query has to be put in as a common table expression. */
  readonly placeOf: (table: string) => Place | undefined;
  readonly functionsSchema: string;
  /** Queries that stand for a table's rows: samples of it, in previews only. */
  readonly standIns?: ReadonlyMap<string, string>;
  /** Values that replace `current_setting('param.x')`; undefined leaves the call. */
  readonly settings?: ReadonlyMap<string, string>;
  /** An instant, ISO 8601, that replaces the time which the query asks for. */
  readonly now?: string;
}

/** The text between two offsets of a file, compiled. */
export function compileText(
  file: IndexedFile,
  range: { start: number; end: number },
  query: Pick<Query, 'tables' | 'functions' | 'settings'> & Partial<Pick<Query, 'moments'>>,
  names: Names,
): EditedText {
  const edits: Edit[] = [];
  for (const mention of query.tables) edits.push(...tableEdit(mention, names));
  for (const f of query.functions)
    edits.push({ start: f.start, end: f.end, text: qualified({ schema: names.functionsSchema, name: f.name }) });
  for (const s of query.settings) {
    const value = names.settings?.get(s.setting);
    if (value !== undefined) edits.push({ start: s.start, end: s.end, text: `${literal(value)}::text` });
  }
  if (names.now !== undefined)
    for (const moment of query.moments ?? [])
      if (moment.kind === 'time') edits.push(momentEdit(moment, file.text, names.now));
  return applyEdits(file.text, edits, range.start, range.end);
}

/** What a call of time becomes where the time is given: a subquery, as it names its column like the call. */
function momentEdit({ start, end, name }: MomentMention, text: string, now: string): Edit {
  const precision = /\(\s*\d+\s*\)/.exec(text.slice(start, end))?.[0] ?? '';
  const type = { current_date: 'date', current_time: 'timetz', localtime: 'time', localtimestamp: 'timestamp' }[name];
  const value = `cast(timestamptz ${literal(now)} as ${type ?? 'timestamptz'}${precision})`;
  return { start, end, text: `(select ${value} as ${ident(name)})` };
}

function tableEdit(mention: TableMention, names: Names): Edit[] {
  if (mention.layer === undefined) return [];
  const full = `${mention.layer}.${mention.name}`;
  if (mention.layer === 'pg_catalog' || mention.layer === 'information_schema') return [];
  const place = names.placeOf(full);
  const { start, end } = mention;
  const standIn = names.standIns?.get(full);
  // The name of a column keeps its table's: the derived table bears it.
  if (standIn !== undefined)
    return [
      {
        start,
        end,
        text: mention.ofColumn
          ? ident(mention.name)
          : `(${standIn})${mention.bare ? ` as ${ident(mention.name)}` : ''}`,
      },
    ];
  if (place) return [{ start, end, text: qualified(place) }];
  if (mention.ofColumn) return [{ start, end, text: ident(mention.name) }];
  const inlined = ident(inlinedName(full));
  return [{ start, end, text: mention.bare ? `${inlined} as ${ident(mention.name)}` : inlined }];
}

/** `create or replace function` for an environment. */
export function compileFunction(project: Project, f: ProjectFunction, names: Names): string {
  const file = project.files.get(f.path)!;
  const body = {
    tables: f.tables,
    functions: [{ ...f.nameRange, name: f.name }, ...f.functions],
    settings: [],
    moments: f.moments,
  };
  const { text } = compileText(file, f.range, body, names);
  return withLeadingWords(text, ['create', ['or', 'replace']], 'create or replace');
}

/** A condition of a contract, with the names of the project's tables and functions replaced. */
export function compileCondition(condition: string, names: Names): string {
  const { text, start, end, found } = readCondition(condition);
  return compileText({ text } as never, { start, end }, found, names).text.trim();
}
