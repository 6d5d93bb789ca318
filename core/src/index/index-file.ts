import type { Node } from 'libpg-query';
import { FileReader } from './file-reader.js';
import { checkFile } from './check-file.js';
import { jobFile } from './job-file.js';
import { definitionFile } from './definition-file.js';
import { functionFile } from './function-file.js';
import { exampleFile } from './example-file.js';
import { referenceFile } from './reference-file.js';
import { sourcesFile } from './source-file.js';
import { byteToCharacter, type Range } from '../sql/positions.js';
import { errorAt, type Diagnostic } from '../model/diagnostic.js';
import { badRule, misplacedFile, readTooLong, ruleTwice, TOO_LARGE, unknownRule, unreadableFile } from './messages.js';
import { type IndexedFile, REVIEW_RULES, type ReviewRule } from '../model/project.js';

const FOLDERS: Readonly<Record<string, (file: FileReader) => void>> = {
  sources: sourcesFile,
  functions: functionFile,
  checks: checkFile,
  jobs: jobFile,
  adhoc: adhocFile,
};

/** Reads one file of the project, from its path and text alone. */
export function indexFile(path: string, text: string): IndexedFile {
  const file = new FileReader(path, text);
  try {
    readFile(file, path.slice(0, Math.max(0, path.indexOf('/'))));
    return file.result;
  } catch (error) {
    const { result } = new FileReader(path, text);
    return { ...result, diagnostics: [unreadable(path, { start: 0, end: 0 }, error)] };
  }
}

/** A fault of the program in reading a file: said of that file, and of no other. */
export const unreadable = (path: string, range: Range, error: unknown): Diagnostic => {
  const why = error instanceof Error ? error.message : String(error);
  return errorAt({ path, range }, unreadableFile(error instanceof RangeError ? TOO_LARGE : why));
};

/** A file that took longer to read than it may. @param limit milliseconds */
export function tooSlow(path: string, text: string, limit: number): IndexedFile {
  const { result } = new FileReader(path, text);
  return { ...result, diagnostics: [errorAt({ path, range: { start: 0, end: 0 } }, readTooLong(limit))] };
}

/** An indexed file as it can be sent from one thread to another; `restored` gives it back what it lacks. */
export const withoutFunctions = (file: IndexedFile): IndexedFile => ({ ...file, at: undefined });

export function restored(file: IndexedFile): IndexedFile {
  let convert: ((offset: number) => number) | undefined;
  return { ...file, at: (location) => (convert ??= byteToCharacter(file.text))(location ?? 0) };
}

function readFile(file: FileReader, folder: string): void {
  if (file.path.endsWith('.csv')) {
    if (folder === 'reference') referenceFile(file, folder);
    else if (folder === 'examples') exampleFile(file);
  } else if (file.path.endsWith('.sql')) sqlFile(file, folder);
}

function sqlFile(file: FileReader, folder: string): void {
  const special = Object.hasOwn(FOLDERS, folder) ? FOLDERS[folder] : undefined;
  const isSound = file.parse();
  if (special) {
    // A query of which a statement is missing may mean something else; of sources, each statement stands for itself.
    if (isSound || folder === 'sources') special(file);
  } else if (folder) definitionFile(file, folder, { isSound });
  else if (file.path === 'layers.sql') layersFile(file);
  else if (file.path === 'parameters.sql') parametersFile(file);
  else if (file.path === 'review.sql') reviewFile(file);
  else file.problem(file.whole(), misplacedFile);
}

function layersFile(file: FileReader): void {
  for (const statement of file.parsed.statements) {
    const { node } = statement;
    if ('CreateSchemaStmt' in node) {
      file.result.layers.push({
        name: node.CreateSchemaStmt.schemaname ?? '',
        range: { start: statement.start, end: statement.end },
      });
    } else if ('CommentStmt' in node && node.CommentStmt.objtype === 'OBJECT_SCHEMA') {
      const name =
        node.CommentStmt.object && 'String' in node.CommentStmt.object
          ? node.CommentStmt.object.String.sval
          : undefined;
      const i = file.result.layers.findIndex((l) => l.name === name);
      if (i >= 0) file.result.layers[i] = { ...file.result.layers[i]!, comment: node.CommentStmt.comment };
    } else file.notAllowed(statement, 'layers.sql holds create schema and comment on schema');
  }
}

function parametersFile(file: FileReader): void {
  for (const statement of file.parsed.statements) {
    const set = 'VariableSetStmt' in statement.node ? statement.node.VariableSetStmt : undefined;
    if (!set?.name?.startsWith('param.')) {
      file.notAllowed(statement, "parameters.sql holds set param.NAME = 'default'");
      continue;
    }
    const value = (set.args ?? []).map(constantText).join(', ');
    file.result.parameters.push({
      name: set.name.slice(6),
      value,
      path: file.path,
      range: { start: statement.start, end: statement.end },
    });
  }
}

const RULE_VALUES: Readonly<Record<ReviewRule['name'], RegExp>> = {
  approvals: /^(\d|10)$/,
  by_owner: /^(true|false)$/,
};

function reviewFile(file: FileReader): void {
  for (const statement of file.parsed.statements) {
    const set = 'VariableSetStmt' in statement.node ? statement.node.VariableSetStmt : undefined;
    const [of, written = '', layer, ...more] = set?.name?.split('.') ?? [];
    const value = (set?.args ?? []).map(constantText).join(', ');
    const name = REVIEW_RULES.find((r) => r === written);
    if (of !== 'review' || set?.kind !== 'VAR_SET_VALUE')
      file.notAllowed(statement, "review.sql holds set review.NAME = 'value'");
    else if (name === undefined || more.length) file.problem(statement, unknownRule(set.name!.slice(7)));
    else if (!RULE_VALUES[name].test(value)) file.problem(statement, badRule(name, value));
    else if (file.result.reviewRules.some((r) => r.name === name && r.layer === layer))
      file.problem(statement, ruleTwice(set.name!));
    else
      file.result.reviewRules.push({
        name,
        ...(layer === undefined ? {} : { layer }),
        value,
        range: { start: statement.start, end: statement.end },
      });
  }
}

function adhocFile(file: FileReader): void {
  const [statement, ...more] = file.parsed.statements;
  if (!statement) return;
  if (!('SelectStmt' in statement.node) || more.length)
    file.notAllowed(more[0] ?? statement, 'an ad hoc query is one select');
  else
    file.result.adhoc.push({
      name: file.stem,
      path: file.path,
      query: file.query(statement.node.SelectStmt, statement),
    });
}

function constantText(node: Node): string {
  if (!('A_Const' in node)) return '';
  const c = node.A_Const;
  return c.sval?.sval ?? c.fval?.fval ?? (c.ival ? String(c.ival.ival ?? 0) : String(c.boolval?.boolval ?? false));
}
