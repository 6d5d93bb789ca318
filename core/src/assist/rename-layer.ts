import { noteLinks } from '../index/note-links.js';
import { isView } from '../language/policies.js';
import type { Project } from '../model/project.js';
import { nameOf, tokenize, type Token } from '../sql/tokens.js';
import { queriesOf, rangeOf, type RenameEdits } from './rename-edits.js';
import { addFormerName, addOption, inDeliveriesOfJobs } from './rename-table.js';

/** Layers whose names mean something of their own. */
const OWN_MEANING = new Set(['reference']);

/** A layer with the folder of its files, wherever one of its tables is named; the rows of these move along by `was`. */
export function renameLayerEdits(
  project: Project,
  { layer, to }: { readonly layer: string; readonly to: string },
  edits: RenameEdits,
): void {
  if (!project.layers.some((l) => l.name === layer))
    return void edits.obstacles.push({ path: '', message: `there is no layer ${layer}` });
  if (OWN_MEANING.has(layer))
    return void edits.obstacles.push({ path: '', message: `${layer} is where tables with files of values are` });
  const own = [...project.tables.values()].filter((t) => t.layer === layer);
  const names = new Set(own.map((t) => t.name));
  inQueries(project, { layer, to }, edits);
  for (const { path, text } of project.files.values()) {
    if (path.endsWith('.md'))
      for (const link of noteLinks(text))
        if (link.name.startsWith(`${layer}.`))
          edits.add(path, { start: link.start, end: link.start + layer.length, text: to });
    if (!path.endsWith('.sql')) continue;
    const tokens = [...tokenize(text)].filter((t) => t.kind !== 'comment');
    for (const [i, token] of tokens.entries())
      if (isName(token, layer) && (isSchema(tokens, i) || isOfTable(tokens, i, names)))
        edits.add(path, { ...rangeOf(token), text: to });
  }
  for (const table of own) {
    const [from, now] = [`${layer}.${table.name}`, `${to}.${table.name}`];
    for (const other of project.tables.values())
      for (const option of ['for_each', 'then_run'])
        addOption(project, { path: other.path, range: other.contract?.options.get(option)?.range }, [from, now], edits);
    for (const check of project.checks.values())
      addOption(project, { path: check.path, range: check.options.get('about')?.range }, [from, now], edits);
    inDeliveriesOfJobs(project, [from, now], edits);
    if (table.kind === 'definition' && !isView(table) && !table.each) addFormerName(project, table, edits);
  }
  for (const job of project.jobs.values())
    // The first of several layers is found by the word before it.
    for (const { name, start, end } of job.layers.slice(1))
      if (name === layer) edits.add(job.path, { start, end, text: to });
  for (const path of project.files.keys())
    if (path.startsWith(`${layer}/`)) edits.moved.set(path, `${to}/${path.slice(layer.length + 1)}`);
}

/** Names of tables by what they mean: a common table expression may be called as the layer is. */
function inQueries(
  project: Project,
  { layer, to }: { readonly layer: string; readonly to: string },
  edits: RenameEdits,
): void {
  const ofFunctions = [...project.functions.values()].map((f) => ({ path: f.path, query: f }));
  for (const { path, query } of [...queriesOf(project), ...ofFunctions]) {
    const { text } = project.files.get(path)!;
    for (const mention of query.tables) {
      if (mention.layer !== layer) continue;
      const [first] = tokenize(text, mention.start, mention.end);
      if (first) edits.add(path, { ...rangeOf(first), text: to });
    }
  }
}

const isName = (token: Token | undefined, name: string) =>
  token !== undefined && (token.kind === 'word' || token.kind === 'quoted') && nameOf(token) === name;

/** `create schema layer`, `comment on schema layer`. */
const isSchema = (tokens: readonly Token[], i: number) => isName(tokens[i - 1], 'schema');

/** `layer.table`, where the layer has such a table. */
function isOfTable(tokens: readonly Token[], i: number, names: ReadonlySet<string>): boolean {
  const [before, dot, name] = [tokens[i - 1], tokens[i + 1], tokens[i + 2]];
  return before?.text !== '.' && dot?.text === '.' && name !== undefined && names.has(nameOf(name));
}
