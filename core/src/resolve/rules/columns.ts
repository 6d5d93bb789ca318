import { didYouMean } from '../../sql/nearest.js';
import type { Range } from '../../sql/positions.js';
import { nameOf, nextToken, tokenize } from '../../sql/tokens.js';
import type { ColumnProblem } from '../../columns/columns.js';
import type { Diagnostic } from '../../model/diagnostic.js';
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
      ? endOfParts(file.text, start, problem.parts.length)
      : (nextToken(file.text, start)?.end ?? start);
  const base = { severity: 'error', path: file.path, range: { start, end } } as const;
  switch (problem.kind) {
    case 'unknown': {
      const hint = hints ? didYouMean(problem.parts.at(-1)!, problem.names) : undefined;
      const message =
        problem.parts.length > 1
          ? `${problem.parts.slice(0, -1).join('.')} has no column ${problem.parts.at(-1)}`
          : `there is no column ${problem.parts[0]}`;
      return { ...base, code: 'unknown-column', message, ...(hint ? { hint } : {}) };
    }
    case 'unknown-range': {
      const range = problem.parts.length > 1 ? problem.parts.slice(0, -1).join('.') : problem.parts[0]!;
      const hint = hints ? didYouMean(range, problem.names) : undefined;
      return {
        ...base,
        code: 'unknown-table',
        message: `${range} is not a table of this query`,
        ...(hint ? { hint } : {}),
      };
    }
    case 'ambiguous':
      return {
        ...base,
        code: 'ambiguous-column',
        message: `${problem.parts[0]} is a column of ${problem.tables.join(' and of ')}`,
        hint: `write ${problem.tables[0]}.${problem.parts[0]} or ${problem.tables[1]}.${problem.parts[0]}`,
      };
    case 'alias':
      return {
        ...base,
        code: 'ambiguous-column',
        message: `two tables of this query are called ${problem.name}`,
        hint: 'give one of them another name with as',
      };
    case 'names':
      return {
        ...base,
        code: 'unknown-column',
        message: `${problem.table} names ${problem.given} columns, and its query returns ${problem.columns}`,
        hint: 'name as many as there are, or fewer',
      };
    case 'using': {
      const token = usingToken(file.text, start, problem.name);
      const [lacks, other] = problem.tables;
      const hint = hints ? didYouMean(problem.name, problem.names) : undefined;
      return {
        ...base,
        range: token ?? base.range,
        code: 'unknown-column',
        message: `${lacks} has no column ${problem.name}, by which it is joined with ${other}`,
        ...(hint ? { hint } : {}),
      };
    }
    case 'arms':
      return {
        ...base,
        code: 'unknown-column',
        message: `the parts of the union return ${problem.left} and ${problem.right} columns`,
        hint: 'return the same columns from each',
      };
  }
}

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

function endOfParts(text: string, start: number, parts: number): number {
  let end = nextToken(text, start)?.end ?? start;
  for (let i = 1; i < parts; i++) {
    const dot = nextToken(text, end);
    if (dot?.text !== '.') break;
    end = nextToken(text, dot.end)?.end ?? end;
  }
  return end;
}
