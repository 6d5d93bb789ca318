import { digest } from '../model/digest.js';
import type { IndexedFile, Project, ProjectFunction, Table } from '../model/project.js';
import { withoutLayout } from '../sql/tokens.js';
import { functionsOf } from './functions.js';
import { settingsOf } from '../model/settings.js';
import { inferredTables, lookedUpTables } from './looked-up.js';

type Prints = ReadonlyMap<string, string>;
const cache = new WeakMap<Project, Prints>();
const rowCache = new WeakMap<Project, Prints>();
const fileDigests = new WeakMap<IndexedFile, string>();

/**
 * What each table's content depends on: its definition without comments and layout, the functions
 * and parameters that it uses, and the fingerprints of what it reads. 32 hexadecimal digits.
 * Tables of a cycle have none.
 */
export const fingerprints = (project: Project): Prints => kept(cache, project, ownDigest);

/** The same but for conditions and not null of contracts: tables with one such print have the same rows. */
export const rowPrints = (project: Project): Prints => kept(rowCache, project, rowDigest);

type OwnDigest = (project: Project, table: Table) => string;

function kept(known: WeakMap<Project, Prints>, project: Project, own: OwnDigest): Prints {
  let prints = known.get(project);
  if (!prints) known.set(project, (prints = printsOf(project, own)));
  return prints;
}

function printsOf(project: Project, own: OwnDigest): Prints {
  const result = new Map<string, string>();
  const settings = settingsOf(project);
  for (const name of project.order) {
    const table = project.tables.get(name)!;
    const parts = [
      table.kind,
      own(project, table),
      ...(lookedUpTables(project).has(name) ? ['looked up'] : []),
      ...(inferredTables(project).has(name) ? ['inferred'] : []),
    ];
    for (const f of functionsOf(project, [name])) parts.push(functionText(project, f));
    if (table.kind === 'definition' && table.query) {
      for (const s of table.query.settings)
        parts.push(
          `${s.setting}=${settings.get(s.setting) ?? table.each?.values.get(s.setting.slice('each.'.length)) ?? ''}`,
        );
    }
    for (const input of project.reads.get(name) ?? []) parts.push(`${input}:${result.get(input) ?? ''}`);
    result.set(name, digest(parts.join('\u0000')));
  }
  return result;
}

function functionText(project: Project, f: ProjectFunction): string {
  return withoutLayout(project.files.get(f.path)!.text, f.range.start, f.range.end);
}

function ownDigest(project: Project, table: Table): string {
  const file = project.files.get(table.path)!;
  switch (table.kind) {
    case 'source':
      return digest(withoutLayout(file.text, table.contract.range.start, table.contract.range.end));
    case 'reference':
      return fileDigest(file) + (table.csvPath === table.path ? '' : fileDigest(project.files.get(table.csvPath)!));
    case 'definition':
      return fileDigest(file);
  }
}

/** Options of a contract that judge rows, and make none. */
const JUDGING: readonly string[] = ['advisory', 'tolerate', 'severity', 'open_incident', 'stop_on', 'owner', 'tags'];

function rowDigest(project: Project, table: Table): string {
  const file = project.files.get(table.path)!;
  const { contract } = table;
  if (table.kind !== 'definition' || !contract || !file.statements) return ownDigest(project, table);
  const others = file.statements.filter((s) => contract.range.start < s.start || contract.range.start >= s.end);
  const columns = contract.columns.map(({ name, type, options }) => [name, type, options]);
  // Keys and references decide what a load does; other constraints only judge it.
  const keys = contract.constraints.flatMap(({ kind, columns: of, references }) =>
    kind === 'check' || kind === 'not null' ? [] : [[kind, of, references]],
  );
  const options = [...contract.options].filter(([name]) => !JUDGING.includes(name)).map(([name, o]) => [name, o.value]);
  return digest(
    [JSON.stringify([columns, keys, options]), ...others.map((s) => withoutLayout(file.text, s.start, s.end))].join(
      ';',
    ),
  );
}

/** The digest of a file: of its statements but for comments, or of a CSV's whole text. */
function fileDigest(file: IndexedFile): string {
  const known = fileDigests.get(file);
  if (known !== undefined) return known;
  const made = digest(
    file.statements ? file.statements.map((s) => withoutLayout(file.text, s.start, s.end)).join(';') : file.text,
  );
  fileDigests.set(file, made);
  return made;
}
