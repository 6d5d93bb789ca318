import type { Definition, Project } from '../project/model.js';
import { ident, literal, qualified } from '../sql/quote.js';
import { compileText, settingsOf, withEach, type Names } from './compile.js';
import { isFilled } from './target.js';

/** Rows that a trace shows. */
const SHOWN = 50;

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
export function misfitQuery(project: Project, table: Definition, names: Names): string | undefined {
  const columns = (table.contract?.columns ?? []).filter((c) => !isFilled(c) && c.type !== 'text');
  if (columns.length === 0 || !table.query) return undefined;
  const settings = withEach(settingsOf(project), table);
  const query = compileText(project.files.get(table.path)!, table.query, table.query, { ...names, settings });
  const misfit = columns.map(
    (c) => `case when not pg_temp.fits(q.${ident(c.name)}::text, ${literal(c.type).trim()}) then ${literal(`${c.name}: no ${c.type}`).trim()} end`,
  );
  return `select * from (
  select concat_ws(', ', ${misfit.join(',\n    ')}) as does_not_fit, q.*
  from (\n${query.text}\n) as q
) as held
where does_not_fit <> ''
limit ${SHOWN}`;
}

/** Rows of the stored tables that a definition reads, through views too, in which a column has a value as its text, whatever its case and the blanks around it. */
export function valueQueries(project: Project, table: Definition, value: string, names: Names): { readonly table: string; readonly sql: string }[] {
  const found = new Map<string, string>();
  const visit = (name: string): void => {
    for (const input of project.reads.get(name) ?? []) {
      const read = project.tables.get(input);
      const place = names.placeOf(input);
      const columns = project.columns.get(input);
      if (!read || !place || !columns?.length || found.has(input)) continue;
      if (read.kind === 'definition' && read.policy === 'view') visit(input);
      else
        found.set(
          input,
          `select * from ${qualified(place)} as t where ${literal(value.trim().toLowerCase()).trim()} in (${columns.map((c) => `lower(trim(t.${ident(c.name)}::text))`).join(', ')}) limit ${SHOWN}`,
        );
    }
  };
  visit(table.fullName);
  return [...found].map(([name, sql]) => ({ table: name, sql }));
}
