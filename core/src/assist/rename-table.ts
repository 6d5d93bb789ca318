import { noteLinks } from '../index/note-links.js';
import { isView } from '../language/policies.js';
import type { Project, Table } from '../model/project.js';
import type { Edit } from '../sql/edits.js';
import { literal } from '../sql/quote.js';
import type { Range } from '../sql/positions.js';
import { nameOf, tokenize } from '../sql/tokens.js';
import { dottedNames, queriesOf, rangeOf, valueOf, type RenameEdits } from './rename-edits.js';

/** A table with its files, wherever it is named; its rows move along by `was`. */
export function renameTableEdits(
  project: Project,
  { table: full, to }: { readonly table: string; readonly to: string },
  edits: RenameEdits,
): void {
  const table = project.tables.get(full);
  if (!table) return void edits.obstacles.push({ path: '', message: `there is no table ${full}` });
  const [layer, name] = full.split('.') as [string, string];
  const [newLayer, newName] = to.split('.') as [string, string];
  const queries = queriesOf(project);
  const inside = new Map<string, { start: number; end: number }[]>();
  for (const { path, query } of queries) inside.set(path, [...(inside.get(path) ?? []), query]);
  for (const f of project.functions.values()) inside.set(f.path, [...(inside.get(f.path) ?? []), f.range]);

  // In queries by what the names mean, elsewhere by the two names in a row.
  const inFunctions = [...project.functions.values()].map((f) => ({
    path: f.path,
    query: { ...f.range, tables: f.tables },
  }));
  for (const { path, query } of [...queries, ...inFunctions]) {
    const { text } = project.files.get(path)!;
    for (const mention of query.tables) {
      if (mention.layer !== layer || mention.name !== name) continue;
      edits.add(path, { start: mention.start, end: mention.end, text: to });
      if (mention.bare) edits.add(path, ...qualifiers(text, query, [name, newName]));
    }
  }
  for (const { path, text } of project.files.values()) {
    if (path.endsWith('.sql'))
      for (const found of dottedNames(text, full, inside.get(path) ?? []))
        edits.add(path, { ...rangeOf(found.layer), text: newLayer }, { ...rangeOf(found.name), text: newName });
    if (path.endsWith('.md'))
      for (const link of noteLinks(text))
        if (link.name === full || link.name.startsWith(`${full}.`))
          edits.add(path, { start: link.start, end: link.start + full.length, text: to });
  }
  for (const other of project.tables.values())
    for (const option of ['for_each', 'then_run'])
      addOption(project, { path: other.path, range: other.contract?.options.get(option)?.range }, [full, to], edits);
  for (const check of project.checks.values())
    addOption(project, { path: check.path, range: check.options.get('about')?.range }, [full, to], edits);
  inDeliveriesOfJobs(project, [full, to], edits);
  addFormerName(project, table, edits, to);
  move(table, to, edits);
}

/** The name of a table before its columns, where it has no other in the query. */
function qualifiers(text: string, { start, end }: Range, [name, to]: readonly [string, string]): Edit[] {
  const tokens = [...tokenize(text, start, end)].filter((t) => t.kind !== 'comment');
  return tokens.flatMap((t, i) =>
    nameOf(t) === name && tokens[i + 1]?.text === '.' && tokens[i - 1]?.text !== '.'
      ? [{ ...rangeOf(t), text: to }]
      : [],
  );
}

/** A table of files, by whose deliveries jobs start. */
export function inDeliveriesOfJobs(project: Project, names: readonly [string, string], edits: RenameEdits): void {
  for (const job of project.jobs.values())
    addOption(project, { path: job.path, range: job.options.get('on_delivery')?.range }, names, edits);
}

/** Names of tables within the text of an option. */
export function addOption(
  project: Project,
  { path, range }: { readonly path: string; readonly range: Range | undefined },
  [from, to]: readonly [string, string],
  edits: RenameEdits,
): void {
  if (!range) return;
  const { text } = project.files.get(path)!;
  const { start, end } = valueOf(text, range);
  const value = text.slice(start, end);
  for (const { index } of value.matchAll(new RegExp(`(?<![\\w.])${from.replace('.', '\\.')}(?![\\w.])`, 'g')))
    edits.add(path, { start: start + index, end: start + index + from.length, text: to });
}

/** `was = 'layer.name'`: a release moves the rows. A view has none. */
export function addFormerName(project: Project, table: Table, edits: RenameEdits, to?: string): void {
  if (table.kind !== 'definition' || isView(table) || !table.contract) return;
  const { text } = project.files.get(table.path)!;
  const said = table.contract.options.get('was');
  if (said) {
    // Named back: production may have either name by now.
    if (said.value.trim() === to)
      edits.add(table.path, { ...valueOf(text, said.range), text: literal(table.fullName) });
    return;
  }
  const { start, end } = table.contract.range;
  const tokens = [...tokenize(text, start, end)].filter((t) => t.kind !== 'comment');
  let depth = 0;
  let close: number | undefined;
  for (const [i, token] of tokens.entries()) {
    if (token.text === '(') depth++;
    if (token.text === ')' && --depth === 0 && close === undefined) close = i;
  }
  if (close === undefined) return;
  const [word, open] = [tokens[close + 1], tokens[close + 2]];
  const hasOptions = word && nameOf(word) === 'with' && open?.text === '(';
  edits.add(
    table.path,
    hasOptions
      ? { start: open.end, end: open.end, text: `was = '${table.fullName}', ` }
      : { start: tokens[close]!.end, end: tokens[close]!.end, text: ` with (was = '${table.fullName}')` },
  );
}

function move(table: Table, to: string, edits: RenameEdits): void {
  if (table.kind === 'source') return keepSystemName(table, edits);
  const [layer, name] = to.split('.') as [string, string];
  const paths = [table.path, ...(table.kind === 'reference' ? [table.csvPath] : [])];
  for (const path of new Set(paths)) edits.moved.set(path, `${layer}/${name}${path.slice(path.lastIndexOf('.'))}`);
}

/** A source's table keeps its name in the system. */
function keepSystemName(table: Extract<Table, { kind: 'source' }>, edits: RenameEdits): void {
  if (table.contract.options.has('table_name') || table.contract.options.has('pattern')) return;
  edits.obstacles.push({
    path: table.path,
    message: `${table.fullName} has its name from the system: declare table_name first, so that it keeps it there`,
  });
}
