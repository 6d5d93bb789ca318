import { afterInputs } from '../graph/graph.js';
import type { Contract, Definition, IndexedFile, Project, ProjectFunction, Query, TableMention } from '../project/model.js';
import { applyEdits, type Edit, type EditedText } from '../sql/edits.js';
import { mentionsIn } from '../lineage/mentions.js';
import { parseSql } from '../sql/parser.js';
import { ident, literal, qualified } from '../sql/quote.js';
import type { Place } from './place.js';
import { driftColumns } from './drift.js';
import { inlinedName } from './inlined-name.js';
import { standInColumns } from './stand-ins.js';
import { CONDITIONS, isFilled } from './target.js';

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
}

/** The text between two offsets of a file, compiled. */
export function compileText(
  file: IndexedFile,
  range: { start: number; end: number },
  query: Pick<Query, 'tables' | 'functions' | 'settings'>,
  names: Names,
): EditedText {
  const edits: Edit[] = [];
  for (const mention of query.tables) edits.push(...tableEdit(mention, names));
  for (const f of query.functions) edits.push({ start: f.start, end: f.end, text: qualified({ schema: names.functionsSchema, name: f.name }) });
  for (const s of query.settings) {
    const value = names.settings?.get(s.setting);
    if (value !== undefined) edits.push({ start: s.start, end: s.end, text: `${literal(value)}::text` });
  }
  return applyEdits(file.text, edits, range.start, range.end);
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
    return [{ start, end, text: mention.ofColumn ? ident(mention.name) : `(${standIn})${mention.bare ? ` as ${ident(mention.name)}` : ''}` }];
  if (place) return [{ start, end, text: qualified(place) }];
  if (mention.ofColumn) return [{ start, end, text: ident(mention.name) }];
  const inlined = ident(inlinedName(full));
  return [{ start, end, text: mention.bare ? `${inlined} as ${ident(mention.name)}` : inlined }];
}

/** The values of all parameters under their setting names, `param.x`. */
export function settingsOf(project: Project, values: ReadonlyMap<string, string> = new Map()): Map<string, string> {
  return new Map([...project.parameters.values()].map((p) => [`param.${p.name}`, values.get(p.name) ?? p.value]));
}

/** Values of settings, with those of a table's row of its list. */
export function withEach(settings: ReadonlyMap<string, string>, table: Pick<Definition, 'each'>): Map<string, string> {
  return new Map([...settings, ...[...(table.each?.values ?? [])].map(([name, value]) => [`each.${name}`, value] as const)]);
}

/**
 * The query that fills a definition's table: the author's, wrapped in casts to the contract's
 * columns, order and types where there is a contract. Columns that a load would fill have values that
 * stand for them: keys are looked up in the dimension, or in what stands for it, and hashes of business keys are numbers.
 */
export function definitionQuery(project: Project, table: Definition, names: Names): EditedText {
  const query = compileText(
    project.files.get(table.path)!,
    table.query!,
    table.query!,
    names.settings ? { ...names, settings: withEach(names.settings, table) } : names,
  );
  if (!table.contract) return query;
  const stood = table.contract.columns.some(isFilled) ? standInColumns(project, table, names) : undefined;
  const columns = [
    ...table.contract.columns.map((c) => `cast(${stood?.values.get(c.name) ?? `q.${ident(c.name)}`} as ${c.type}) as ${ident(c.name)}`),
    ...driftColumns(project, table).map((c) => `q.${ident(c.name)}`),
  ];
  const drift = driftColumns(project, table).map(() => 'null');
  const member = stood?.unknownMember ? `\nunion all\nselect ${[...stood.unknownMember, ...drift].join(', ')}` : '';
  return wrapped(`select ${columns.join(',\n       ')}\nfrom (\n`, query, `\n) as q${stood?.joins ?? ''}${member}`);
}

/** A text with something before and behind it, and the way back kept. */
export function wrapped(before: string, inner: EditedText, after: string): EditedText {
  return { text: before + inner.text + after, original: (offset) => inner.original(Math.min(Math.max(0, offset - before.length), inner.text.length)) };
}

/**
 * A query that can be run before its upstream has been built: tables without a place are put in as
 * common table expressions, each before what reads it.
 * @returns the text, and the file that `original` leads back to
 */
export function previewQuery(project: Project, main: EditedText, reads: readonly string[], names: Names): EditedText {
  const inlined = inlinedTables(project, reads, names.placeOf);
  if (inlined.length === 0) return main;
  const ctes = inlined.map((t) => `${ident(inlinedName(t.fullName))} as not materialized (\n${definitionQuery(project, t, names).text}\n)`);
  return wrapped(`with ${ctes.join(',\n')}\nselect * from (\n`, main, '\n) as preview');
}

/** Tables without a place that others read, through any number of them, each before what reads it. */
export function inlinedTables(project: Project, reads: Iterable<string>, placeOf: Names['placeOf']): Definition[] {
  const inlined = (full: string): Definition | undefined => {
    const table = project.tables.get(full);
    return table?.kind === 'definition' && table.query && !placeOf(full) ? table : undefined;
  };
  return afterInputs(reads, (full) => (inlined(full) ? (project.reads.get(full) ?? []) : undefined)).map((full) => inlined(full)!);
}

/** `create or replace function` for an environment. */
export function compileFunction(project: Project, f: ProjectFunction, names: Names): string {
  const file = project.files.get(f.path)!;
  const body = { tables: f.tables, functions: [{ ...f.nameRange, name: f.name }, ...f.functions], settings: [] };
  return compileText(file, f.range, body, names).text.replace(/^create\s+(or\s+replace\s+)?/i, 'create or replace ');
}

/** A condition of a contract, with the names of the project's tables and functions replaced. */
export function compileCondition(condition: string, names: Names): string {
  const { text, start, end, found } = readCondition(condition);
  return compileText({ text } as never, { start, end }, found, names).text.trim();
}

/** A condition as a text that can be parsed, where it stands in it, and what it names. @throws where it is none */
function readCondition(condition: string) {
  const head = 'select where (';
  const text = `${head}${condition}\n)`;
  const parsed = parseSql(text);
  const [statement] = parsed.statements;
  if (parsed.error || !statement) throw new Error(`${condition}: ${parsed.error?.message ?? 'no condition'}`);
  return { text, start: head.length, end: text.length - 1, found: mentionsIn(parsed, statement.node) };
}

/** Whether a text may name functions of the project. */
export const namesFunctions = (text: string): boolean => /\bfunctions\b/i.test(text);

/** The project's functions that the checks and options of a contract name. */
function functionsOfContract({ constraints, options }: Contract): string[] {
  const conditions = [...constraints.flatMap((c) => c.expression ?? []), ...CONDITIONS.flatMap((name) => options.get(name)?.value ?? [])];
  return conditions.filter(namesFunctions).flatMap((condition) => {
    try {
      return readCondition(condition).found.functions.map((f) => f.name);
    } catch {
      // A condition that cannot be read is a diagnostic of the project, not of who asks for its functions.
      return [];
    }
  });
}

/**
 * The functions that a set of tables needs, each after those that it calls itself.
 * @param queries others that need functions
 */
export function functionsOf(project: Project, tables: Iterable<string>, queries: readonly Pick<Query, 'functions'>[] = []): ProjectFunction[] {
  const named = function* (): Generator<string> {
    for (const { functions } of queries) for (const { name } of functions) yield name;
    for (const full of tables) {
      const table = project.tables.get(full);
      if (table?.kind === 'definition') for (const { name } of table.query?.functions ?? []) yield name;
      if (table?.contract && table.kind !== 'source') yield* functionsOfContract(table.contract);
    }
  };
  return afterInputs(named(), (name) => project.functions.get(name)?.functions.map((f) => f.name)).map((name) => project.functions.get(name)!);
}
