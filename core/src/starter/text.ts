import { literal, plainIdent } from '../sql/quote.js';

/** How starters write SQL: as a practitioner would, one line a column, quotes only where they are needed. */

/** A table as starters need it. */
export interface StarterTable {
  readonly fullName: string;
  readonly columns: readonly StarterColumn[];
}

export interface StarterColumn {
  readonly name: string;
  readonly type?: string | undefined;
}

export const text = (value: string): string => literal(value);

/** An expression under a name; the name is left out where the expression has it already. */
export function named(expression: string, name: string): string {
  const last = /(?:^|\.)("(?:[^"]|"")+"|[a-z_][a-z0-9_]*)$/.exec(expression)?.[1];
  return last === plainIdent(name) ? expression : `${expression} as ${plainIdent(name)}`;
}

/** A select with one item a line; commas stand behind items, comments behind commas. */
export function select(
  items: readonly (string | { readonly sql: string; readonly note: string })[],
  rest: readonly string[],
  kind: 'select' | 'select distinct' = 'select',
): string {
  const lines = items.map((item, i) => {
    const comma = i < items.length - 1 ? ',' : '';
    return typeof item === 'string' ? `  ${item}${comma}` : `  ${item.sql}${comma}  -- ${item.note}`;
  });
  return [kind, ...lines, ...rest.filter((r) => r !== '')].join('\n');
}

/** A short alias: the first letter of the table's name, with a number where it is taken. */
export function aliasFor(fullName: string, taken: ReadonlySet<string>): string {
  const name = fullName.slice(fullName.indexOf('.') + 1);
  const initials =
    name
      .replace(/[^a-z0-9_]/g, '')
      .split('_')
      .map((w) => w.slice(0, 1))
      .join('') || 't';
  const start = /^[a-z]/.test(initials) ? initials : `t${initials}`;
  let alias = start;
  for (let n = 2; taken.has(alias) || plainIdent(alias) !== alias; n++) alias = `${start}${n}`;
  return alias;
}

/** A condition that the author typed, put in whole; its own line ends comments in it. */
export const condition = (sql: string): string => (/--|\n/.test(sql) ? `(${sql}\n)` : `(${sql})`);
