import type { FuncCall } from 'libpg-query';
import { isVolatile } from '../index/moments.js';
import { readCondition } from '../index/condition.js';
import { strings } from '../sql/nodes.js';
import { isView } from '../language/policies.js';
import { CONDITIONS } from '../language/options.js';
import type { KeyContext } from './context.js';
import { tellsEarly, type Target } from '../compile/target.js';
import { optionOf } from '../language/contract.js';

/** Whether keys can be looked up while the rows are written: a table remade, of whose look-ups nothing has to be known before or told afterwards. */
const looksUpInOnePass = ({ spec, lookUps }: Target): boolean =>
  lookUps.length === 0 || (spec.kind === 'rebuild' && lookUps.every((l) => l.missing === 'unknown' && !tellsEarly(l)));

/** Whether a function gives another value each time that it is asked. */
const isChanging = (name: string): boolean => name === 'nextval' || name === 'txid_current' || isVolatile(name);

/** Whether some node of a tree meets a condition; trees of queries are as deep as their texts nest. */
function some(node: unknown, condition: (kind: string, value: object) => boolean): boolean {
  if (typeof node !== 'object' || node === null) return false;
  return Object.entries(node).some(
    ([kind, value]) =>
      (typeof value === 'object' && value !== null && condition(kind, value as object)) || some(value, condition),
  );
}

const changes = (node: unknown): boolean =>
  some(node, (kind, value) => kind === 'FuncCall' && isChanging(strings((value as FuncCall).funcname).at(-1) ?? ''));
/** Whether a query reads rows again, in a window or in a query of its own. */
const readsAgain = (node: unknown): boolean =>
  some(node, (kind) => kind === 'over' || kind === 'SubLink' || kind === 'RangeSubselect');

/**
 * Whether the query's rows are read where they are, through a temporary view: where the query is a plain
 * one over one table, reading it twice costs less than keeping its rows.
 */
export function readsDirectly({ project, target }: KeyContext): boolean {
  const { table } = target;
  const { query } = table;
  if (!query || !looksUpInOnePass(target) || query.tables.length !== 1 || query.functions.length) return false;
  const input = project.tables.get(`${query.tables[0]!.layer ?? ''}.${query.tables[0]!.name}`);
  const { withClause, groupClause, distinctClause, sortClause, limitCount, limitOffset, havingClause, op } =
    query.select;
  const plain =
    !withClause &&
    !groupClause &&
    !distinctClause &&
    !sortClause &&
    !limitCount &&
    !limitOffset &&
    !havingClause &&
    (op ?? 'SETOP_NONE') === 'SETOP_NONE';
  const stored = input !== undefined && (input.kind !== 'definition' || !isView(input));
  const conditions = CONDITIONS.flatMap((name) => optionOf(table, name) ?? []);
  return (
    plain &&
    stored &&
    !readsAgain(query.select) &&
    !changes(query.select) &&
    !conditions.some((c) => changes(readCondition(c).node))
  );
}
