import { projectAround } from '../columns/around.js';
import { columnMentions } from '../columns/columns.js';
import type { Project } from '../model/project.js';
import { fileQueries } from './file-queries.js';
import type { Range } from '../sql/positions.js';
import { endOfName } from '../sql/tokens.js';

/** What a name in a query means: a table, or a column with what gives its value. */
export type NameMeaning = Range &
  (
    | { readonly kind: 'table'; readonly table: string }
    | {
        readonly kind: 'column';
        readonly name: string;
        readonly type: string | undefined;
        readonly origins: readonly string[];
      }
  );

/** What the name at an offset of a file means; undefined where there is none, or none that is known. */
export function meaningAt(project: Project, path: string, offset: number): NameMeaning | undefined {
  const file = project.files.get(path);
  const query = file && fileQueries(file).find((q) => offset >= q.start && offset <= q.end);
  if (!query || !file.at) return undefined;
  const isThere = ({ start, end }: Range) => offset >= start && offset <= end;
  const mention = query.tables.find((t) => !t.ofColumn && isThere(t));
  const table = `${mention?.layer ?? ''}.${mention?.name}`;
  if (mention && project.tables.has(table)) return { kind: 'table', table, start: mention.start, end: mention.end };
  const around = projectAround((name) => project.columns.get(name), project.functions);
  for (const { location, parts, column } of columnMentions(query.select, around)) {
    const start = file.at(location);
    const range = { start, end: endOfName(file.text, start, parts.length) };
    if (isThere(range))
      return { kind: 'column', name: column.name, type: column.type, origins: column.origins, ...range };
  }
  return undefined;
}
