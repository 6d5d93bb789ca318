import type { HistorySpec, EventsSpec } from '../../language/spec.js';
import { columnWith, type Role } from '../../language/roles.js';
import { writtenColumns } from '../../compile/target.js';
import { columnOption } from '../../language/contract.js';
import type { Target } from '../../compile/target.js';
import type { ColumnDeclaration } from '../../model/project.js';
/** The columns of a history table by what a change of theirs does. */
export interface HistoryColumns {
  readonly validFrom: ColumnDeclaration;
  readonly validTo: string;
  readonly current?: string;
  readonly version?: string;
  readonly versioned: readonly ColumnDeclaration[];
  readonly overwritten: readonly ColumnDeclaration[];
  readonly kept: readonly ColumnDeclaration[];
  /** Columns that hold the value before the last change of another. */
  readonly previous: readonly { readonly name: string; readonly of: ColumnDeclaration }[];
  /** Whether overwritten columns change in closed versions too. */
  readonly overwriteAll: boolean;
}

/** @param corrects whether versioned columns are overwritten in open versions */
export function historyColumns(
  target: Target,
  { overwriteScope }: HistorySpec | EventsSpec,
  { corrects }: { readonly corrects: boolean },
): HistoryColumns {
  const by = (role: Role) => columnWith(target, role);
  const current = by('current flag');
  const version = by('version number');
  const plain = writtenColumns(target).filter((c) => !target.key.includes(c.name));
  const onChange = (kind: string) => plain.filter((c) => (columnOption(c, 'on_change') ?? 'version') === kind);
  return {
    validFrom: target.columns.find((c) => c.name === by('valid from'))!,
    validTo: by('valid to')!,
    ...(current === undefined ? {} : { current }),
    ...(version === undefined ? {} : { version }),
    versioned: corrects ? [] : onChange('version'),
    overwritten: corrects
      ? [...onChange('version'), ...onChange('overwrite'), ...onChange('keep')]
      : onChange('overwrite'),
    kept: corrects ? [] : onChange('keep'),
    previous: target.columns.flatMap((c) => {
      const of = target.columns.find((o) => o.name === columnOption(c, 'previous_of'));
      return columnOption(c, 'on_change') === 'previous' && of ? [{ name: c.name, of }] : [];
    }),
    overwriteAll: !corrects && overwriteScope === 'all',
  };
}
