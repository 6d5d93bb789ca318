import { keyMapsOf } from '../load/keys.js';
import { STATEFUL } from '../load/policy.js';
import { isFilled, optionOf, targetOf } from '../load/target.js';
import type { Project, Table } from '../project/model.js';

/** What a load checks of itself before it changes anything that shows; it comes with the policy. */
export interface PolicyCheck {
  readonly kind: 'policy';
  /** `core.dim_vessel/versions_do_not_overlap`. */
  readonly id: string;
  readonly name: PolicyCheckName;
  readonly title: string;
  readonly table: string;
  readonly columns: readonly string[];
  readonly advisory: false;
  readonly tolerate?: undefined;
  readonly comment?: undefined;
}

export type PolicyCheckName =
  'keys_are_known' | 'one_row_a_key' | 'one_event_an_instant' | 'versions_do_not_overlap' | 'key_map_is_complete' | 'look_ups_keep_rows';

/** The checks that come with a table's load policy, keys and look-ups. */
export function policyChecks(project: Project, table: Table): PolicyCheck[] {
  if (table.kind !== 'definition' || !table.contract || (!STATEFUL.has(table.policy) && !table.contract.columns.some(isFilled))) return [];
  const target = targetOf(project, table);
  const { key } = target;
  const names = key.join(', ');
  const events = optionOf(table, 'effective_from') !== undefined;
  const found: [boolean, PolicyCheckName, string, readonly string[]][] = [
    [['merge', 'history', 'append'].includes(table.policy) && key.length > 0, 'keys_are_known', `the query returns no row without ${names}`, key],
    [(table.policy === 'merge' || (table.policy === 'history' && !events)) && key.length > 0, 'one_row_a_key', `the query returns one row a ${names}`, key],
    [events, 'one_event_an_instant', `events of a ${names} agree on each instant`, key],
    [table.policy === 'history', 'versions_do_not_overlap', `no two versions of a ${names} overlap, and one is open at the most`, key],
    [keyMapsOf(target, { schema: '', name: '' }).some((m) => m.method === 'sequence'), 'key_map_is_complete', 'each row has its number', key],
    [target.lookUps.length > 0, 'look_ups_keep_rows', 'looking keys up loses and multiplies no row', target.lookUps.map((l) => l.column.name)],
  ];
  return found
    .filter(([comes]) => comes)
    .map(([, name, title, columns]) => ({ kind: 'policy', id: `${table.fullName}/${name}`, name, title, table: table.fullName, columns, advisory: false }));
}
