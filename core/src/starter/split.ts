import { condition } from './text.js';
import { tableText } from '../sql/quote.js';

/** One table in several by conditions. */
export interface SplitChoices {
  readonly source: string;
  readonly parts: readonly { readonly name: string; readonly condition: string }[];
  /** The name of the table of all rows that no condition takes; none is made without one. */
  readonly remainder?: string;
}

/** A query for each part, by its name. A row that several conditions take is in several parts. */
export function splitTable({ source, parts, remainder }: SplitChoices): Map<string, string> {
  const queries = new Map(
    parts.map((p) => [
      p.name,
      `-- rows of ${source} where ${oneLine(p.condition)}\nselect *\nfrom ${tableText(source)}\nwhere ${condition(p.condition)}\n`,
    ]),
  );
  if (remainder)
    queries.set(
      remainder,
      `-- rows of ${source} that no other part takes\nselect *\nfrom ${tableText(source)}\nwhere ${rest(parts)}\n`,
    );
  return queries;
}

const oneLine = (sql: string) => sql.replace(/\s+/g, ' ').trim();

/** A condition that is null takes no row, so it leaves it to the rest. */
const rest = (parts: SplitChoices['parts']) =>
  parts.length ? parts.map((p) => `${condition(p.condition)} is not true`).join('\n  and ') : 'true';

/** One row: `total`, `part1` …, `overlap` (rows of more than one part), `rest`. */
export function splitCounts({ source, parts }: Pick<SplitChoices, 'source' | 'parts'>): string {
  const taken = parts.map((p) => `(${condition(p.condition)} is true)::int`);
  return `select count(*) as total,
${parts.map((p, i) => `  count(*) filter (where ${condition(p.condition)}) as part${i + 1},\n`).join('')}  count(*) filter (where ${taken.join(' + ') || '0'} > 1) as overlap,
  count(*) filter (where ${rest(parts)}) as rest
from ${tableText(source)}`;
}
