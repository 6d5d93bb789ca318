import type { LoadPolicy } from '../model/load-policy.js';
import type { ColumnDeclaration } from '../model/project.js';

/** What the role of a column means. */
export interface RoleRule {
  readonly help: string;
  /** Whether the load fills the column: the query then does not return it. */
  readonly filled: boolean;
  /** Policies that give it a meaning; all, where none are named. */
  readonly policies?: readonly LoadPolicy[];
}

export type Role =
  | 'surrogate key'
  | 'durable key'
  | 'valid from'
  | 'valid to'
  | 'current flag'
  | 'version number'
  | 'row hash'
  | 'loaded at'
  | 'run id'
  | 'as of'
  | 'deleted flag'
  | 'measure'
  | 'attribute';

/** Every role that a column can have. */
export const ROLES: Readonly<Record<Role, RoleRule>> = {
  'surrogate key': {
    help: 'A number that the load assigns, once and for ever; in a history, one per version.',
    filled: true,
  },
  'durable key': {
    help: 'A number that the load assigns to a business key, over all its versions.',
    filled: true,
    policies: ['history'],
  },
  'valid from': { help: 'The instant from which a version holds.', filled: true, policies: ['history'] },
  'valid to': {
    help: 'The instant at which a version ends; null while it is open.',
    filled: true,
    policies: ['history'],
  },
  'current flag': {
    help: 'True for the open version, or for the newest complete date.',
    filled: true,
    policies: ['history', 'dated'],
  },
  'version number': { help: 'Counts the versions of a business key from 1.', filled: true, policies: ['history'] },
  'row hash': { help: 'A hash of all that the query returns apart from the business key.', filled: true },
  'loaded at': { help: 'The time of the load that wrote the row.', filled: true },
  'run id': { help: 'The run whose load wrote the row.', filled: true },
  'as of': { help: 'The date of a copy; the query returns it.', filled: false, policies: ['dated'] },
  'deleted flag': { help: 'True while the query does not return the row.', filled: true, policies: ['merge'] },
  measure: { help: 'A figure to sum up or average.', filled: false },
  attribute: { help: 'Describes the row.', filled: false },
};

export const COLUMN_ROLES = Object.keys(ROLES) as readonly Role[];

type WithOptions = Pick<ColumnDeclaration, 'options'>;

/** A column's role; undefined where it has none, or none that exists: that is a diagnostic. */
export function roleOf({ options }: WithOptions): Role | undefined {
  const role = options['role'];
  return role !== undefined && Object.hasOwn(ROLES, role) ? (role as Role) : undefined;
}

export const hasRole = (column: WithOptions, ...roles: readonly Role[]): boolean =>
  roles.some((role) => roleOf(column) === role);

/** The first column that has a role. */
export const columnOf = (columns: readonly ColumnDeclaration[], role: Role): ColumnDeclaration | undefined =>
  columns.find((c) => hasRole(c, role));

/** The name of the column of a contract or target that has a role. */
export const columnWith = (
  { columns }: { readonly columns: readonly ColumnDeclaration[] },
  role: Role,
): string | undefined => columnOf(columns, role)?.name;

/** Whether a policy gives a role a meaning. */
export const roleFits = (role: Role, policy: LoadPolicy): boolean => ROLES[role].policies?.includes(policy) ?? true;
