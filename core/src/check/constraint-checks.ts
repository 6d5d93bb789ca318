import { specOf } from '../language/spec.js';
import { columnWith } from '../language/roles.js';
import type { ConstraintDeclaration, ConstraintKind, Project, Table } from '../model/project.js';
import type { Place } from '../model/place.js';
import { rememberedPlace, sortsFast } from '../compile/target.js';
import { inferredTables, lookedUpTables } from '../graph/looked-up.js';
import { readTolerances, type Tolerance } from '../language/tolerance.js';

/** Something that must hold of one table: a constraint of its contract. */
export interface ConstraintCheck {
  readonly kind: ConstraintKind;
  /** `core.dim_vessel/dim_vessel_pkey`. */
  readonly id: string;
  readonly name: string;
  readonly table: string;
  readonly columns: readonly string[];
  readonly expression?: string;
  readonly references?: { readonly table: string; readonly columns: readonly string[] };
  readonly advisory: boolean;
  readonly tolerate?: Tolerance;
  readonly comment?: string;
  /** Of a key: its distinct values are best counted by sorting them. */
  readonly sortsFast?: boolean;
  /** Members that the source does not know: they are exempt from checks of their values. */
  readonly exempt?: Exempt;
}

/** The unknown member, key 0 of the surrogate key, and placeholders. */
export interface Exempt {
  readonly surrogate: string;
  /** The list of placeholders, by business key. */
  readonly inferred?: { readonly place: Place; readonly key: readonly string[] };
}

/** The checks of a table's contract, in its order. @param home the table's final place, for checks that are run */
export function constraintChecks(project: Project, table: Table, home?: Place): ConstraintCheck[] {
  const contract = table.contract;
  if (!contract || table.kind === 'source') return [];
  const advisory = new Set((contract.options.get('advisory')?.value ?? '').split(',').map((n) => n.trim()));
  const tolerances = readTolerances(contract.options.get('tolerate')?.value ?? '');
  const surrogate = columnWith(contract, 'surrogate key');
  const exempt =
    surrogate !== undefined && lookedUpTables(project).has(table.fullName)
      ? { exempt: exemptOf(project, table, surrogate, home) }
      : {};
  return contract.constraints.map((c) => {
    const tolerate = tolerances.get(c.name);
    return {
      kind: c.kind,
      id: `${table.fullName}/${c.name}`,
      name: c.name,
      table: table.fullName,
      columns: c.columns,
      advisory: advisory.has(c.name),
      ...exempt,
      ...(sortsFast(contract, c.columns) ? { sortsFast: true } : {}),
      ...(c.expression === undefined ? {} : { expression: c.expression }),
      ...(c.references ? { references: { table: c.references.table, columns: referencedColumns(project, c) } } : {}),
      ...(tolerate ? { tolerate } : {}),
      ...(c.comment === undefined ? {} : { comment: c.comment }),
    };
  });
}

function exemptOf(project: Project, table: Table, surrogate: string, home: Place | undefined): Exempt {
  if (!home || table.kind !== 'definition' || !inferredTables(project).has(table.fullName)) return { surrogate };
  return { surrogate, inferred: { place: rememberedPlace(home, 'inferred'), key: specOf(table).key } };
}

/** `references t` without columns means the primary key of t, or columns of the same names. */
function referencedColumns(project: Project, constraint: ConstraintDeclaration): readonly string[] {
  const { table, columns } = constraint.references!;
  if (columns.length) return columns;
  const key = project.tables.get(table)?.contract?.constraints.find((c) => c.kind === 'primary key');
  return key?.columns ?? constraint.columns;
}

/** Whether rows that break a check may not be there at all. */
export const isEnforced = ({ advisory, tolerate }: ConstraintCheck): boolean => !advisory && !tolerate;
