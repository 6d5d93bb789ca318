import { plainIdent } from '../sql/quote.js';
import type { Step } from './relations.js';
import { measureSql, type Measure } from './summarise.js';
import { aliasFor, named, select } from './text.js';
import { tableText } from '../sql/quote.js';

export const JOIN_KINDS = ['left', 'inner', 'full'] as const;
export type JoinKind = (typeof JOIN_KINDS)[number];

/** A table that is joined, and what is taken from it. */
export interface JoinedTable {
  /** The place of the table that it is joined to in `joins`; -1 for the base. */
  readonly parent: number;
  readonly step: Step;
  /** Columns of it, with the names that they get. */
  readonly columns: readonly { readonly column: string; readonly name: string }[];
  /** Which rows stay that have no partner: those of the left side unless said, none, or those of both. */
  readonly kind?: JoinKind;
  /** To-many only: one row a key with these measures, so that rows are not multiplied. */
  readonly aggregate?: readonly Measure[];
}

export interface RelatedChoices {
  readonly base: string;
  readonly columns: readonly { readonly column: string; readonly name: string }[];
  readonly joins: readonly JoinedTable[];
}

/** True where the result can have more rows than the base: a to-many step without an aggregate. */
export const multiplies = (choices: RelatedChoices): boolean =>
  choices.joins.some((j) => !j.step.toOne && !j.aggregate?.length);

/**
 * The prefix that tells the columns of a table joined in one role from those in another: what the
 * referring column says before the key's name, else the table's name.
 */
export function roleOf(step: Step): string {
  const [from, to] = [step.fromColumns[0] ?? '', step.toColumns[0] ?? ''];
  if (step.toOne && from !== to && from.endsWith(`_${to}`)) return from.slice(0, -to.length - 1);
  const noun = step.to.slice(step.to.indexOf('.') + 1);
  return step.toOne && from !== to ? from.replace(/_(id|code|no|key)$/, '') : noun;
}

/** A query over the base table and tables around it: left joins, so that every base row stays, unless another kind is said. */
export function fromRelated({ base, columns, joins }: RelatedChoices): string {
  const taken = new Set<string>();
  const alias = (fullName: string) => {
    const free = aliasFor(fullName, taken);
    taken.add(free);
    return free;
  };
  const baseAlias = alias(base);
  const aliases = joins.map((j) => alias(j.step.to));
  const items = [
    ...columns.map((c) => named(`${baseAlias}.${plainIdent(c.column)}`, c.name)),
    ...joins.flatMap((j, i) => [
      ...(j.aggregate?.length
        ? j.aggregate.map((m) => `${aliases[i]!}.${plainIdent(m.name)}`)
        : j.columns.map((c) => named(`${aliases[i]!}.${plainIdent(c.column)}`, c.name))),
    ]),
  ];
  const lines = joins.map((j, i) => {
    const left = j.parent < 0 ? baseAlias : aliases[j.parent]!;
    const right = aliases[i]!;
    const on = j.step.fromColumns
      .map((c, k) => `${right}.${plainIdent(j.step.toColumns[k]!)} = ${left}.${plainIdent(c)}`)
      .join(' and ');
    return `${JOIN_WORDS[j.kind ?? 'left']} ${joined(j)} ${right} on ${on}${j.step.toOne || j.aggregate?.length ? '' : '  -- several rows: multiplies'}`;
  });
  return `-- ${base} with ${joins.length ? joins.map((j) => j.step.to).join(', ') : 'nothing joined'}\n${select(items, [`from ${tableText(base)} ${baseAlias}`, ...lines])}\n`;
}

const JOIN_WORDS: Readonly<Record<JoinKind, string>> = { left: 'left join', inner: 'join', full: 'full join' };

function joined({ step, aggregate }: JoinedTable): string {
  if (step.toOne || !aggregate?.length) return tableText(step.to);
  const keys = step.toColumns.map(plainIdent);
  const inner = select(
    [...keys, ...aggregate.map((m) => `${measureSql(m)} as ${plainIdent(m.name)}`)],
    [`from ${tableText(step.to)}`, `group by ${keys.join(', ')}`],
  );
  return `(\n${inner
    .split('\n')
    .map((l) => `  ${l}`)
    .join('\n')}\n)`;
}
