import { nearest } from '../../sql/nearest.js';
import type { Range } from '../../sql/positions.js';
import { endOfName, nameOf, nextToken, tokenize } from '../../sql/tokens.js';
import type { ColumnProblem } from '../../columns/problem.js';
import { errorAt, type Diagnostic, type Finding } from '../../model/diagnostic.js';
import {
  ambiguousColumn,
  misplacedCall,
  ungroupedColumn,
  wrongRecursion,
  notInQuery,
  notJoinedOn,
  sameAlias,
  tooManyNames,
  unionDiffers,
  unknownColumn,
} from '../messages.js';
import type { IndexedFile } from '../../model/project.js';

/** The first word of a query: where a problem of the whole query is shown. */
export function startOf(file: IndexedFile, query: Range): Range {
  const token = nextToken(file.text, query.start);
  return token ? { start: token.start, end: token.end } : query;
}

/**
 * What a name that could not be resolved is told as.
 * @param hints whether the nearest right name is looked for
 */
export function columnDiagnostic(
  file: IndexedFile,
  problem: ColumnProblem,
  { hints }: { readonly hints: boolean },
): Diagnostic {
  const start = file.at!(problem.location);
  const end =
    'parts' in problem
      ? endOfName(file.text, start, problem.parts.length)
      : (nextToken(file.text, start)?.end ?? start);
  const at = (finding: Finding, range: Range = { start, end }) => errorAt({ path: file.path, range }, finding);
  const near = (wrong: string, names: readonly string[]) => (hints ? nearest(wrong, names) : undefined);
  switch (problem.kind) {
    case 'unknown':
      return at(unknownColumn(problem.parts, near(problem.parts.at(-1)!, problem.names)));
    case 'unknown-range': {
      const name = problem.parts.length > 1 ? problem.parts.slice(0, -1).join('.') : problem.parts[0]!;
      return at(notInQuery(name, near(name, problem.names)));
    }
    case 'ambiguous':
      return at(ambiguousColumn(problem.parts[0]!, problem.tables));
    case 'alias':
      return at(sameAlias(problem.name));
    case 'names':
      return at(tooManyNames(problem.table, problem.given, problem.columns));
    case 'using': {
      const [lacks, other] = problem.tables;
      return at(
        notJoinedOn([lacks!, other!], problem.name, near(problem.name, problem.names)),
        usingToken(file.text, start, problem.name),
      );
    }
    case 'misplaced':
      return at(misplacedCall(problem));
    case 'ungrouped':
      return at(ungroupedColumn(problem.parts.join('.')));
    case 'recursion':
      return at(wrongRecursion(problem.name, problem.fault));
    case 'mark':
      return at(unknownColumn([problem.name], near(problem.name, problem.names)), {
        start,
        end: endOfWord(file.text, start, problem.name),
      });
    case 'arms':
      return at(unionDiffers(problem.left, problem.right));
  }
}

/** The end of the first word of a name behind a place. */
const endOfWord = (text: string, from: number, name: string): number =>
  tokenize(text, from).find((t) => (t.kind === 'word' || t.kind === 'quoted') && nameOf(t) === name)?.end ?? from;

/** The token of a column in the brackets of the first `using` behind a place that has it. */
function usingToken(text: string, from: number, name: string): Range | undefined {
  const tokens = tokenize(text, from);
  for (const [i, token] of tokens.entries()) {
    if (token.kind !== 'word' || token.text.toLowerCase() !== 'using') continue;
    for (let j = i + 1; j < tokens.length && tokens[j]!.text !== ')'; j++) {
      const inner = tokens[j]!;
      if ((inner.kind === 'word' || inner.kind === 'quoted') && nameOf(inner) === name)
        return { start: inner.start, end: inner.end };
    }
  }
  return undefined;
}
