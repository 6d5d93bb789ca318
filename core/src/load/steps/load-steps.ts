import { watermarkGuards, inputGuards } from '../policy/input-guards.js';
import type { PolicyContext } from '../policy/context.js';
import type { Definition } from '../../model/project.js';
import { ident, qualified } from '../../sql/quote.js';
import { appendSteps, watermarkBound } from '../append/append.js';
import { wrapped } from '../../sql/edits.js';
import { datedSteps } from '../dated/dated.js';
import { eventSteps } from '../events/events.js';
import { historySteps } from '../history/history.js';
import { lookUpSteps } from '../../keys/look-ups.js';
import { mergeSteps } from '../merge/merge.js';
import { rebuildSteps } from '../rebuild/rebuild.js';
import { readsDirectly } from '../../keys/direct.js';
import {
  AS_USUAL,
  dropTemporary,
  dropTemporaryView,
  IN_PARALLEL,
  RAW_ROWS,
  ROWS,
  run,
  type Guard,
  type LoadStep,
} from '../../compile/steps.js';
import { isFilled } from '../../language/contract.js';
import { isView, keepsRows } from '../../language/policies.js';
import { columnOf } from '../../language/roles.js';
import { unreachable } from '../../model/unreachable.js';
import type { EditedText } from '../../sql/edits.js';

/** Whether a table is loaded in steps: it keeps rows, or its load fills columns. */
export function loadsInSteps(table: Definition): boolean {
  return keepsRows(table) || (!isView(table) && (table.contract?.columns.some(isFilled) ?? false));
}

/**
 * All steps of one load, from the author's compiled query to the counts.
 * @param first true where the table is empty: an append table then takes all
 */
export function policySteps(
  context: PolicyContext,
  query: EditedText,
  path: string,
  { first = false }: { readonly first?: boolean } = {},
): LoadStep[] {
  const { target } = context;
  const { table } = target;
  // Rows are found again by their place: nobody else may write until this load has ended. Readers go on.
  const lock = !keepsRows(table)
    ? []
    : [run('session', `lock table ${qualified(context.own)} in share row exclusive mode`)];
  const asUsual = run('session', AS_USUAL);
  const guards = inputGuards(context);
  const asked = guards.length ? [asUsual, ...guards, run('session', IN_PARALLEL)] : [];
  const steps = [...lock, ...rowsOfQuery(context, query, path, first), ...changing(context, guards, asked)];
  const all = readsDirectly(context)
    ? [...steps, dropTemporaryView(ROWS, RAW_ROWS)]
    : [dropTemporary(ROWS, RAW_ROWS), ...steps, dropTemporary(ROWS)];
  return [run('session', IN_PARALLEL), ...all, asUsual];
}

/**
 * The steps that change the table, the guards of the query's rows among them.
 * @param asked the steps that ask the guards
 * @throws Error for a view, which has no steps
 */
function changing(context: PolicyContext, guards: readonly Guard[], asked: readonly LoadStep[]): LoadStep[] {
  const { spec, target } = context;
  switch (spec.kind) {
    case 'append':
      return [...asked, ...appendSteps({ ...context, spec })];
    case 'merge':
      return mergeSteps({ ...context, spec }, guards, asked);
    case 'history':
      return [...asked, ...historySteps({ ...context, spec })];
    case 'events':
      return [...asked, ...eventSteps({ ...context, spec })];
    case 'dated':
      return [...asked, ...datedSteps({ ...context, spec })];
    case 'rebuild':
      return [...asked, ...rebuildSteps({ ...context, spec })];
    case 'view':
      throw new Error(`${target.table.fullName} is a view: nothing is loaded`);
    default:
      return unreachable(spec);
  }
}

/** The query's rows in a temporary table, cast to the contract, with the keys that are looked up. */
function rowsOfQuery(context: PolicyContext, query: EditedText, path: string, first: boolean): LoadStep[] {
  const { target, spec } = context;
  const effective = spec.kind === 'events' ? spec.effectiveFrom : undefined;
  const appending = spec.kind === 'append' ? { ...context, spec } : undefined;
  const validFrom = columnOf(target.columns, 'valid from');
  const items = [
    ...target.given.map((c) => `cast(q.${ident(c.name)} as ${c.type}) as ${ident(c.name)}`),
    ...target.extra.map((name) =>
      name === effective && validFrom
        ? `cast(q.${ident(name)} as ${validFrom.type}) as ${ident(name)}`
        : `q.${ident(name)}`,
    ),
  ];
  const name = target.lookUps.length ? 'raw_rows' : 'query_rows';
  const select = `select ${items.join(',\n       ')}\nfrom (\n`;
  const direct = readsDirectly(context);
  const head = `create temp ${direct ? `view ${name}` : `table ${name} on commit drop`} as\n${select}`;
  const bound = appending && !first ? watermarkBound(appending) : undefined;
  const making = (condition: string): LoadStep & { sql: string } => {
    const rows = wrapped(head, query, `\n) as q${condition}`);
    return { step: 'run', kind: 'build', sql: rows.text, author: { path, original: rows.original } };
  };
  const bounded = bound && making(`\nwhere ${bound.condition}`);
  return [
    ...(appending ? watermarkGuards(appending, query) : []),
    bounded
      ? {
          step: 'either',
          sql: bound.none,
          then: [making('')],
          otherwise: [
            bound.step,
            { step: 'explain', sql: `explain (format json) ${bounded.sql.slice(head.length - select.length)}` },
            bounded,
          ],
        }
      : making(''),
    ...(target.lookUps.length ? lookUpSteps(context) : []),
    ...(direct ? [] : [run('session', `analyze ${ROWS}`)]),
  ];
}
