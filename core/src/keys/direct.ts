import { isView } from '../language/policies.js';
import { CONDITIONS } from '../language/options.js';
import type { KeyContext } from './context.js';
import { tellsEarly, type Target } from '../compile/target.js';
import { optionOf } from '../language/contract.js';

/** Whether keys can be looked up while the rows are written: a table made anew, of whose look-ups nothing has to be known before or told afterwards. */
const looksUpInOnePass = ({ spec, lookUps }: Target): boolean =>
  lookUps.length === 0 || (spec.kind === 'rebuild' && lookUps.every((l) => l.missing === 'unknown' && !tellsEarly(l)));

const CHANGING = /\b(random|nextval|clock_timestamp|timeofday|gen_random_uuid|txid_current)\b/i;

/**
 * Whether the query's rows are read where they are, through a temporary view: where the query is a plain
 * one over one table, reading it twice costs less than keeping its rows.
 */
export function readsDirectly({ project, target }: KeyContext): boolean {
  const { table } = target;
  const { query } = table;
  if (!query || !looksUpInOnePass(target) || query.tables.length !== 1 || query.functions.length) return false;
  const input = project.tables.get(`${query.tables[0]!.layer ?? ''}.${query.tables[0]!.name}`);
  const { withClause, groupClause, distinctClause, sortClause, limitCount, limitOffset, havingClause, op } = query.select;
  const plain =
    !withClause && !groupClause && !distinctClause && !sortClause && !limitCount && !limitOffset && !havingClause && (op ?? 'SETOP_NONE') === 'SETOP_NONE';
  const stored = input !== undefined && (input.kind !== 'definition' || !isView(input));
  const conditions = CONDITIONS.map((name) => optionOf(table, name) ?? '').join(' ');
  const text = project.files.get(table.path)!.text.slice(query.start, query.end);
  return plain && stored && !CHANGING.test(text + conditions) && !/\b(over|select)\b[^]*\b(over|select)\b/i.test(text);
}
