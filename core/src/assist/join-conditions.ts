import { namesIn, optionOf } from '../language/contract.js';
import { columnWith } from '../language/roles.js';
import type { Project, Table } from '../model/project.js';
import { plainIdent } from '../sql/quote.js';
import type { NameInScope } from './names-at.js';

/** A condition that two tables can be joined by, and why. */
export interface JoinCondition {
  readonly text: string;
  readonly reason: string;
}

/** Columns that are only called alike are offered where nothing is declared, and so many at most. */
const MOST_ALIKE = 5;

/**
 * Conditions for a join of what is in FROM with one more item: declared references first, then keys whose columns the
 * other side has, too, then columns of one name. Of a table of versions, the current one is offered first.
 */
export function joinConditions(
  project: Project,
  joined: readonly NameInScope[],
  right: NameInScope,
): readonly JoinCondition[] {
  const found = new Map<string, JoinCondition>();
  const add = (pairs: readonly string[], reason: string) => {
    const text = pairs.join(' and ');
    const current = currentOf(project, right);
    for (const condition of current === undefined ? [text] : [`${text} and ${current}`, text])
      if (!found.has(condition)) found.set(condition, { text: condition, reason });
  };
  for (const left of joined) for (const { pairs, reason } of declared(project, left, right)) add(pairs, reason);
  for (const left of joined)
    for (const keyed of [right, left]) {
      const key = keyOf(project.tables.get(keyed.of));
      const [a, b] = keyed === right ? [left, right] : [right, left];
      if (key.length && key.every((c) => has(a, c) && has(b, c)))
        add(
          key.map((c) => equal([left, c], [right, c])),
          `key of ${keyed.of}`,
        );
    }
  if (found.size === 0)
    for (const left of joined)
      for (const { name } of left.columns.filter((c) => has(right, c.name)).slice(0, MOST_ALIKE))
        add([equal([left, name], [right, name])], 'same name');
  return [...found.values()];
}

const has = ({ columns }: NameInScope, name: string) => columns.some((c) => c.name === name);

type Side = readonly [NameInScope, string];
const equal = ([a, x]: Side, [b, y]: Side): string => `${written(b, y)} = ${written(a, x)}`;
const written = ({ name }: NameInScope, column: string) => `${plainIdent(name)}.${plainIdent(column)}`;

/** What the contract of either side says of the other. */
function declared(
  project: Project,
  left: NameInScope,
  right: NameInScope,
): { readonly pairs: readonly string[]; readonly reason: string }[] {
  return [[left, right] as const, [right, left] as const].flatMap(([from, to]) =>
    (project.tables.get(from.of)?.contract?.constraints ?? []).flatMap(({ references, columns }) => {
      if (references?.table !== to.of) return [];
      const named = references.columns.length ? references.columns : keyOf(project.tables.get(to.of));
      const pairs = columns.flatMap((c, i) => {
        const other = named[i];
        if (other === undefined || !has(from, c) || !has(to, other)) return [];
        return [from === left ? equal([left, c], [right, other]) : equal([left, other], [right, c])];
      });
      return pairs.length === columns.length ? [{ pairs, reason: `${from.of} references ${to.of}` }] : [];
    }),
  );
}

/** The columns that identify a row in the business, else those of the primary key. */
function keyOf(table: Table | undefined): readonly string[] {
  if (!table?.contract) return [];
  const business = namesIn(optionOf(table, 'business_key'));
  return business.length ? business : (table.contract.constraints.find((c) => c.kind === 'primary key')?.columns ?? []);
}

/** The condition that leaves the current version of each. */
function currentOf(project: Project, right: NameInScope): string | undefined {
  const contract = project.tables.get(right.of)?.contract;
  const flag = contract && columnWith(contract, 'current flag');
  return flag === undefined ? undefined : written(right, flag);
}
