import { afterInputs } from '../graph/graph.js';
import { inlinedName } from '../compile/inlined-name.js';
import { wrapped } from '../sql/edits.js';
import { driftColumns } from '../compile/drift.js';
import { ident } from '../sql/quote.js';
import { standInColumns } from './stand-ins.js';
import { isFilled } from '../language/contract.js';
import { withEach } from '../model/settings.js';
import { compileText } from '../compile/compile.js';
import type { EditedText } from '../sql/edits.js';
import type { Names } from '../compile/compile.js';
import type { Project, Definition } from '../model/project.js';
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
    ...table.contract.columns.map(
      (c) => `cast(${stood?.values.get(c.name) ?? `q.${ident(c.name)}`} as ${c.type}) as ${ident(c.name)}`,
    ),
    ...driftColumns(project, table).map((c) => `q.${ident(c.name)}`),
  ];
  const drift = driftColumns(project, table).map(() => 'null');
  const member = stood?.unknownMember ? `\nunion all\nselect ${[...stood.unknownMember, ...drift].join(', ')}` : '';
  return wrapped(`select ${columns.join(',\n       ')}\nfrom (\n`, query, `\n) as q${stood?.joins ?? ''}${member}`);
}

/**
 * A query that can be run before its upstream has been built: tables without a place are put in as
 * common table expressions, each before what reads it.
 * @returns the text, and the file that `original` leads back to
 */
export function previewQuery(project: Project, main: EditedText, reads: readonly string[], names: Names): EditedText {
  const inlined = inlinedTables(project, reads, names.placeOf);
  if (inlined.length === 0) return main;
  const ctes = inlined.map(
    (t) => `${ident(inlinedName(t.fullName))} as not materialized (\n${definitionQuery(project, t, names).text}\n)`,
  );
  return wrapped(`with ${ctes.join(',\n')}\nselect * from (\n`, main, '\n) as preview');
}

/** Tables without a place that others read, through any number of them, each before what reads it. */
export function inlinedTables(project: Project, reads: Iterable<string>, placeOf: Names['placeOf']): Definition[] {
  const inlined = (full: string): Definition | undefined => {
    const table = project.tables.get(full);
    return table?.kind === 'definition' && table.query && !placeOf(full) ? table : undefined;
  };
  return afterInputs(reads, (full) => (inlined(full) ? (project.reads.get(full) ?? []) : undefined)).map((full) =>
    inlined(full)!,
  );
}
