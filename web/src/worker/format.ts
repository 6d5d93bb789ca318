import type { Project } from '@ouvrage/core/model';
import { sameButLayout } from '@ouvrage/core/sql';
import { formatDialect, postgresql } from 'sql-formatter';
import type { FormatAnswer } from './protocol';

const LAYOUT = { dialect: postgresql, keywordCase: 'preserve', tabWidth: 2, expressionWidth: 80 } as const;

/**
 * Lays the queries of a file out anew; contracts, comments and all words stay as they are written. What another layout
 * would change beside layout is left alone.
 */
export function formatted(
  project: Project,
  { path, text }: { readonly path: string; readonly text: string },
): FormatAnswer {
  const file = project.files.get(path);
  const syntax = file?.diagnostics.find((d) => d.code === 'syntax' || d.code === 'unreadable');
  if (!file || syntax)
    return { problem: syntax ? `Fix the syntax error first: ${syntax.message}.` : `There is no file ${path}.` };
  const queries = [
    ...file.tables.flatMap((t) => (t.kind === 'definition' && t.query ? [t.query] : [])),
    ...[...file.checks, ...file.adhoc].map((c) => c.query),
  ].sort((a, b) => b.start - a.start);
  if (queries.length === 0) return { problem: 'There is no query in it.' };
  let result = text;
  for (const { start, end } of queries) {
    const before = text.slice(start, end);
    const after = layOut(before);
    if (after === undefined) return { problem: 'The query has something that cannot be laid out without changing it.' };
    result = result.slice(0, start) + after + result.slice(end);
  }
  return { text: result };
}

function layOut(query: string): string | undefined {
  try {
    const after = formatDialect(query, LAYOUT);
    return sameButLayout(query, after) ? after : undefined;
  } catch {
    return undefined;
  }
}
