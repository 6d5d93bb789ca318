import type { Project } from '../model/project.js';
import { changeFiles } from '../resolve/read-project.js';
import { applyEdits, type Edit } from '../sql/edits.js';
import { nameOf, tokenize, type Token } from '../sql/tokens.js';
import { rangeOf, RenameEdits, type Renaming, valueOf, wordsIn, type Obstacle } from './rename-edits.js';
import { renameColumnEdits } from './rename-column.js';
import { renameLayerEdits } from './rename-layer.js';
import { renameInExamples } from './rename-examples.js';
import { renameFunctionEdits, renameParameterEdits } from './rename-other.js';
import { renameTableEdits } from './rename-table.js';

/** A file as it becomes; a null text is none. */
export interface RenamedFile {
  readonly path: string;
  readonly before: string | null;
  readonly after: string | null;
}

export type Renamed =
  { readonly files: readonly RenamedFile[]; readonly uses: number } | { readonly obstacles: readonly Obstacle[] };

const NAME = /^[a-z_][a-z0-9_]*$/;
const LONGEST_NAME = 63;
/** Folders that hold something else than a layer's tables. */
const RESERVED = new Set(['adhoc', 'checks', 'docs', 'examples', 'functions', 'jobs', 'sources', 'reference']);

/**
 * Renames something with all of its uses, by their tokens. The project is read again with the edits: where it has other
 * columns or a new problem, nothing is renamed and what stands in the way is said.
 */
export function rename(project: Project, renaming: Renaming): Renamed {
  const wrong = nameProblem(project, renaming);
  if (wrong !== undefined) return { obstacles: [{ path: '', message: wrong }] };
  const edits = new RenameEdits();
  switch (renaming.kind) {
    case 'table':
      renameTableEdits(project, renaming, edits);
      break;
    case 'column':
      renameColumnEdits(project, renaming, edits);
      break;
    case 'layer':
      renameLayerEdits(project, renaming, edits);
      break;
    case 'function':
      renameFunctionEdits(project, renaming, edits);
      break;
    case 'parameter':
      renameParameterEdits(project, renaming, edits);
      break;
  }
  if (edits.obstacles.length) return { obstacles: edits.obstacles };
  renameInExamples(project, renaming, edits);
  const changes = new Map<string, string | null>();
  let uses = 0;
  for (const [path, list] of edits.edits) {
    const once = [...new Map(list.map((e) => [`${e.start} ${e.end}`, e])).values()];
    uses += once.length;
    changes.set(path, applyEdits(project.files.get(path)!.text, once).text);
  }
  for (const [from, to] of edits.moved) {
    changes.set(to, changes.get(from) ?? project.files.get(from)!.text);
    changes.set(from, null);
  }
  const after = withConstraintNames(project, changeFiles(project, changes), renaming, changes);
  const obstacles = differences(project, after, renaming, edits.renamed);
  if (obstacles.length) return { obstacles };
  const files = [...changes].map(([path, text]) => ({
    path,
    before: project.files.get(path)?.text ?? null,
    after: text,
  }));
  return { files: files.filter((f) => f.before !== f.after), uses };
}

function nameProblem(project: Project, renaming: Renaming): string | undefined {
  const { to } = renaming;
  const name = renaming.kind === 'table' ? to.split('.') : [to];
  if (
    name.length !== (renaming.kind === 'table' ? 2 : 1) ||
    !name.every((n) => NAME.test(n) && n.length <= LONGEST_NAME)
  )
    return renaming.kind === 'table'
      ? `${to} is not a table's name: write layer.name, in small letters, digits and _`
      : `${to} is not a name: small letters, digits and _, beginning with a letter`;
  switch (renaming.kind) {
    case 'table':
      if (project.tables.has(to)) return `there is a table ${to} already`;
      return project.layers.some((l) => l.name === name[0]) ? undefined : `there is no layer ${name[0]}`;
    case 'column':
      return project.columns.get(renaming.table)?.some((c) => c.name === to)
        ? `${renaming.table} has a column ${to} already`
        : undefined;
    case 'layer':
      if (RESERVED.has(to)) return `${to} is a folder of its own in a project`;
      return project.layers.some((l) => l.name === to) ? `there is a layer ${to} already` : undefined;
    case 'function':
      return project.functions.has(to) ? `there is a function ${to} already` : undefined;
    case 'parameter':
      return project.parameters.has(to) ? `there is a parameter ${to} already` : undefined;
  }
}

// What holds afterwards ---------------------------------------------------------------------------

/** What a table is called afterwards. */
function nowCalled(before: Project, name: string, renaming: Renaming): string {
  if (renaming.kind === 'table') return name === renaming.table ? renaming.to : name;
  const table = before.tables.get(name);
  return renaming.kind === 'layer' && table?.layer === renaming.layer && name === `${table.layer}.${table.name}`
    ? `${renaming.to}.${table.name}`
    : name;
}

/** What a renamed project does otherwise than before. */
function differences(before: Project, after: Project, renaming: Renaming, renamed: ReadonlySet<string>): Obstacle[] {
  const known = new Map<string, number>();
  const keyOf = (message: string) => message.replaceAll(/[\d:]+/g, '');
  for (const d of before.diagnostics) known.set(keyOf(d.message), (known.get(keyOf(d.message)) ?? 0) + 1);
  const found: Obstacle[] = [];
  for (const d of after.diagnostics) {
    if (d.severity !== 'error') continue;
    const left = known.get(keyOf(d.message)) ?? 0;
    if (left > 0) known.set(keyOf(d.message), left - 1);
    else found.push({ path: d.path, message: d.message });
  }
  for (const [name, columns] of before.columns) {
    const now = nowCalled(before, name, renaming);
    const expected = columns?.map((c) =>
      renaming.kind === 'column' && renamed.has(name) && c.name === renaming.column ? renaming.to : c.name,
    );
    const got = after.columns.get(now)?.map((c) => c.name);
    if (expected?.join() !== got?.join() && found.length === 0)
      found.push({
        path: before.tables.get(name)?.path ?? '',
        message: `${now} would have other columns: ${got?.join(', ') ?? 'unknown ones'}`,
      });
  }
  return found;
}

/**
 * Constraints without a name of their own bear one that PostgreSQL makes of the table's and the columns': where options
 * or comments mention it, they follow.
 */
function withConstraintNames(
  before: Project,
  after: Project,
  renaming: Renaming,
  changes: Map<string, string | null>,
): Project {
  if (renaming.kind !== 'table' && renaming.kind !== 'column') return after;
  const now = renaming.kind === 'table' ? renaming.to : renaming.table;
  const [old, fresh] = [before.tables.get(renaming.table)?.contract, after.tables.get(now)?.contract];
  const path = after.tables.get(now)?.path;
  if (!old || !fresh || path === undefined || old.constraints.length !== fresh.constraints.length) return after;
  const names = new Map(
    old.constraints.flatMap((c, i) =>
      c.name === fresh.constraints[i]!.name ? [] : [[c.name, fresh.constraints[i]!.name]],
    ),
  );
  if (names.size === 0) return after;
  const { text } = after.files.get(path)!;
  const edits: Edit[] = [];
  for (const option of ['advisory', 'tolerate']) {
    const range = fresh.options.get(option)?.range;
    if (range) edits.push(...wordsIn(text, valueOf(text, range), names));
  }
  for (const token of tokenize(text)) {
    const name = names.get(nameOf(token));
    if (name !== undefined && isNamed(text, token)) edits.push({ ...rangeOf(token), text: name });
  }
  if (edits.length === 0) return after;
  changes.set(path, applyEdits(text, edits).text);
  return changeFiles(after, new Map([[path, changes.get(path)!]]));
}

/** Whether a token is the name in `comment on constraint name`. */
function isNamed(text: string, token: Token): boolean {
  return /comment\s+on\s+constraint\s+$/i.test(text.slice(0, token.start));
}
