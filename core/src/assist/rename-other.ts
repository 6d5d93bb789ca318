import type { Project } from '../model/project.js';
import type { Range } from '../sql/positions.js';
import { nameOf, tokenize } from '../sql/tokens.js';
import { queriesOf, rangeOf, wordsIn, type RenameEdits } from './rename-edits.js';

/** A function with its file and every call of it. */
export function renameFunctionEdits(
  project: Project,
  { name, to }: { readonly name: string; readonly to: string },
  edits: RenameEdits,
): void {
  const own = project.functions.get(name);
  if (!own) return void edits.obstacles.push({ path: '', message: `there is no function ${name}` });
  const called = (path: string, mentions: readonly (Range & { readonly name: string })[]) => {
    const { text } = project.files.get(path)!;
    for (const mention of mentions) if (mention.name === name) edits.add(path, lastName(text, mention, to));
  };
  const { text } = project.files.get(own.path)!;
  edits.add(own.path, lastName(text, own.nameRange, to));
  for (const f of project.functions.values()) called(f.path, f.functions);
  for (const { path, query } of queriesOf(project)) called(path, query.functions);
  for (const { path, text: whole } of project.files.values()) {
    // In conditions of contracts and in comments, functions bear their schema.
    const tokens = [...tokenize(whole)].filter((t) => t.kind !== 'comment');
    for (const [i, token] of tokens.entries())
      if (nameOf(token) === name && tokens[i - 1]?.text === '.' && nameOf(tokens[i - 2]!) === 'functions')
        edits.add(path, { ...rangeOf(token), text: to });
  }
  edits.moved.set(own.path, own.path.replace(`${name}.sql`, `${to}.sql`));
}

/** The last name of `schema.name`. */
function lastName(text: string, { start, end }: Range, to: string) {
  const last = [...tokenize(text, start, end)].at(-1)!;
  return { ...rangeOf(last), text: to };
}

/** A parameter where it is declared and wherever it is read. */
export function renameParameterEdits(
  project: Project,
  { name, to }: { readonly name: string; readonly to: string },
  edits: RenameEdits,
): void {
  if (!project.parameters.has(name))
    return void edits.obstacles.push({ path: '', message: `there is no parameter ${name}` });
  for (const { path, text } of project.files.values()) {
    if (!path.endsWith('.sql')) continue;
    const tokens = [...tokenize(text)].filter((t) => t.kind !== 'comment');
    for (const [i, token] of tokens.entries()) {
      if (
        token.kind === 'string' &&
        token.text === `'param.${name}'` &&
        nameOf(tokens[i - 2] ?? token) === 'current_setting'
      )
        edits.add(path, ...wordsIn(text, token, new Map([[name, to]])));
      if (token.kind === 'quoted' && token.text === `"param.${name}"` && path.startsWith('jobs/'))
        edits.add(path, { start: token.end - 1 - name.length, end: token.end - 1, text: to });
      const isDeclared = token.kind === 'word' && nameOf(token) === name && tokens[i - 1]?.text === '.';
      if (isDeclared && nameOf(tokens[i - 2]!) === 'param') edits.add(path, { ...rangeOf(token), text: to });
    }
  }
}
