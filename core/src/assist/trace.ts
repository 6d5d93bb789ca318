import { isView } from '../language/policies.js';
import type { ColumnDeclaration, Definition, Project } from '../model/project.js';
import type { Range } from '../sql/positions.js';
import { ident, literal, qualified } from '../sql/quote.js';
import { nameOf, tokenize } from '../sql/tokens.js';
import { compileText, type Names } from '../compile/compile.js';
import { settingsOf, withEach } from '../model/settings.js';
import type { Place } from '../model/place.js';
import { conditionParts, queryParts, readsOf, type Queried, type QueryPart } from './query-parts.js';
import { isFilled } from '../language/contract.js';

/** Rows that a trace shows. */
export const TRACED_ROWS = 50;

/** Says of a text whether it has the form of a type: PostgreSQL 15 has nothing of its own for that. */
export const FITS_FUNCTION = `create function pg_temp.fits(value text, type text) returns boolean language plpgsql as $fits$
begin
  execute format('select cast($1 as %s)', type) using value;
  return true;
exception when others then
  return false;
end $fits$`;

/**
 * The rows of a definition's query in which a value does not fit its type of the contract, each with the
 * columns that do not; undefined without a contract. It needs `FITS_FUNCTION`.
 */
export function misfitQuery(project: Project, table: Queried, names: Names): string | undefined {
  const columns = (table.contract?.columns ?? []).filter((c) => !isFilled(c) && c.type !== 'text');
  if (columns.length === 0 || !table.query) return undefined;
  const settings = withEach(names.settings ?? settingsOf(project), table);
  const query = compileText(project.files.get(table.path)!, table.query, table.query, { ...names, settings });
  const misfit = columns.map(
    (c) =>
      `case when not pg_temp.fits(q.${ident(c.name)}::text, ${literal(c.type)}) then ${literal(`${c.name}: no ${c.type}`)} end`,
  );
  return `select * from (
  select concat_ws(', ', ${misfit.join(',\n    ')}) as does_not_fit, q.*
  from (\n${query.text}\n) as q
) as held
where does_not_fit <> ''
limit ${TRACED_ROWS}`;
}

/** The column of the contract that a row of `misfitQuery` is about. @param told what it says does not fit */
export const misfitColumn = (table: Queried, told: string): ColumnDeclaration | undefined =>
  table.contract?.columns.find((c) => !isFilled(c) && told.startsWith(`${c.name}: no ${c.type}`));

/** A stored table that a query reads, through views too. */
export interface StoredInput {
  readonly table: string;
  readonly place: Place;
  readonly columns: readonly string[];
}

function storedInputs(project: Project, of: Queried, names: Names): StoredInput[] {
  const found = new Map<string, StoredInput>();
  for (const input of [...readThroughViews(project, of)].filter((t) => !isViewNamed(project, t))) {
    const place = names.placeOf(input);
    const columns = project.columns.get(input);
    if (place && columns?.length) found.set(input, { table: input, place, columns: columns.map((c) => c.name) });
  }
  return [...found.values()];
}

/** The tables that a query reads, and what those of them that are views read, nearest first. */
export function readThroughViews(project: Project, of: Queried): Set<string> {
  const found = new Set(readsOf(of));
  for (const input of found)
    if (isViewNamed(project, input)) for (const inner of project.reads.get(input) ?? []) found.add(inner);
  return found;
}

const isViewNamed = (project: Project, name: string): boolean => {
  const table = project.tables.get(name);
  return table?.kind === 'definition' && isView(table);
};

/** Rows of the stored tables that a query reads, through views too, in which a column has a value as its text, whatever its case and the blanks around it. */
export function valueQueries(
  project: Project,
  of: Queried,
  value: string,
  names: Names,
): { readonly table: string; readonly sql: string }[] {
  const sought = literal(value.trim().toLowerCase());
  return storedInputs(project, of, names).map(({ table: input, place, columns }) => ({
    table: input,
    sql: `select * from ${qualified(place)} as t where ${sought} in (${columns.map((c) => `lower(trim(t.${ident(c)}::text))`).join(', ')}) limit ${TRACED_ROWS}`,
  }));
}

/** A query in which an error may arise: whose it is, its parts, and the stored tables that its rows come from. */
export interface Suspect {
  readonly of: Queried;
  readonly parts: readonly QueryPart[];
  readonly inputs: readonly StoredInput[];
}

/** The queries in which an error of a query may arise: those of the views that it reads, farthest first, then its own. */
export function suspects(project: Project, of: Queried, names: Names): Suspect[] {
  const inlining: Names = {
    ...names,
    placeOf: (name) => (isViewNamed(project, name) ? undefined : names.placeOf(name)),
  };
  const views = [...readThroughViews(project, of)]
    .filter((name) => isViewNamed(project, name))
    .map((name) => project.tables.get(name) as Definition);
  return [...views.reverse(), of]
    .filter((q) => q.query)
    .map((q) => {
      const conditions = isDefinition(q) ? conditionParts(project, q, inlining) : [];
      return {
        of: q,
        parts: [...queryParts(project, q, inlining), ...conditions],
        inputs: storedInputs(project, q, names),
      };
    });
}

const isDefinition = (of: Queried): of is Definition => 'policy' in of;

/** Inputs with those first of whose columns a part names most. */
export function likeliest(project: Project, { of, inputs }: Suspect, part: Range): StoredInput[] {
  const named = new Set(tokenize(project.files.get(of.path)!.text, part.start, part.end).map(nameOf));
  const score = (input: StoredInput) => input.columns.filter((c) => named.has(c)).length;
  return [...inputs].sort((a, b) => score(b) - score(a));
}

/** More rows than a block of 8 kB can hold, which is 291. */
export const ROWS_A_BLOCK = 512;

/** The rows of a stored table from one position to before another; a position is `block * ROWS_A_BLOCK + number`. */
export function rowsBetween(place: Place, from: number, to: number): string {
  const tid = (at: number) => `'(${Math.floor(at / ROWS_A_BLOCK)},${at % ROWS_A_BLOCK})'::tid`;
  return `select * from ${qualified(place)} where ctid >= ${tid(from)} and ctid < ${tid(to)}`;
}
