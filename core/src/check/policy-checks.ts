import { keepsOneRowAKey, keepsVersions } from '../language/spec.js';
import { hasRole } from '../language/roles.js';
import { keepsRows } from '../language/policies.js';
import type { PolicyCheckName } from '../language/policy-checks.js';
import { targetOf } from '../compile/target.js';
import { isFilled } from '../language/contract.js';
import type { Project, Table } from '../model/project.js';

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

/** The checks that come with a table's load policy, keys and look-ups. */
export function policyChecks(project: Project, table: Table): PolicyCheck[] {
  if (table.kind !== 'definition' || !table.contract || (!keepsRows(table) && !table.contract.columns.some(isFilled)))
    return [];
  const target = targetOf(project, table);
  const { key, spec } = target;
  const names = key.join(', ');
  const { kind } = spec;
  const numbered =
    spec.keyMethod === 'sequence' && target.columns.some((c) => hasRole(c, 'surrogate key', 'durable key'));
  const found: [boolean, PolicyCheckName, string, readonly string[]][] = [
    [
      ['merge', 'history', 'events', 'append'].includes(kind) && key.length > 0,
      'keys_are_known',
      `the query returns no rows without ${names}`,
      key,
    ],
    [keepsOneRowAKey(spec) && key.length > 0, 'one_row_a_key', `the query returns one row per ${names}`, key],
    [kind === 'events', 'one_event_an_instant', `events of a ${names} agree on each instant`, key],
    [
      keepsVersions(spec),
      'versions_do_not_overlap',
      `no two versions of a ${names} overlap, and at most one is open`,
      key,
    ],
    [numbered, 'key_map_is_complete', 'each row has its number', key],
    [
      target.lookUps.length > 0,
      'look_ups_keep_rows',
      'key look-ups neither lose nor multiply rows',
      target.lookUps.map((l) => l.column.name),
    ],
  ];
  return found
    .filter(([comes]) => comes)
    .map(([, name, title, columns]) => ({
      kind: 'policy',
      id: `${table.fullName}/${name}`,
      name,
      title,
      table: table.fullName,
      columns,
      advisory: false,
    }));
}
