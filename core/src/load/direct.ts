import type { PolicyContext } from './policy.js';
import { CONDITIONS, optionOf, tellsEarly, type Target } from './target.js';

/** Whether keys can be looked up while the rows are written: a table made anew, of whose look-ups nothing has to be known before or told afterwards. */
const looksUpInOnePass = ({ table, lookUps }: Target): boolean =>
  lookUps.length === 0 || (table.policy === 'rebuild' && lookUps.every((l) => l.missing === 'unknown' && !tellsEarly(l)));

/** Loads that read the query's rows once or twice. */
const READ_FEW_TIMES: ReadonlySet<string> = new Set(['append', 'merge', 'history', 'dated', 'rebuild']);
const CHANGING = /\b(random|nextval|clock_timestamp|timeofday|gen_random_uuid|txid_current)\b/i;

/**
 * Whether the query's rows are read where they are, through a temporary view: where the query is a plain
 * one over one table, reading it twice costs less than keeping its rows.
 */
export function readsDirectly({ project, target }: PolicyContext): boolean {
  const { table } = target;
  const { query } = table;
  if (!query || !looksUpInOnePass(target) || !READ_FEW_TIMES.has(table.policy) || query.tables.length !== 1 || query.functions.length) return false;
  const input = project.tables.get(`${query.tables[0]!.layer ?? ''}.${query.tables[0]!.name}`);
  const { withClause, groupClause, distinctClause, sortClause, limitCount, limitOffset, havingClause, op } = query.select;
  const plain =
    !withClause && !groupClause && !distinctClause && !sortClause && !limitCount && !limitOffset && !havingClause && (op ?? 'SETOP_NONE') === 'SETOP_NONE';
  const stored = input !== undefined && (input.kind !== 'definition' || input.policy !== 'view');
  const conditions = CONDITIONS.map((name) => optionOf(table, name) ?? '').join(' ');
  const text = project.files.get(table.path)!.text.slice(query.start, query.end);
  return plain && stored && !CHANGING.test(text + conditions) && !/\b(over|select)\b[^]*\b(over|select)\b/i.test(text);
}
