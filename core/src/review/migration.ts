import type { LoadPolicy } from '../model/load-policy.js';
import { hasRole } from '../language/roles.js';
import { keepsRows, isView } from '../language/policies.js';
import { TABLE_OPTIONS } from '../language/options.js';
import type { TableOption } from '../language/options.js';
import { specOf } from '../language/spec.js';
import { GIVEN_LATE } from '../load/plan/late-columns.js';
import { lookedUpTable, namesIn, optionOf, isLookUp } from '../language/contract.js';
import type { Definition, Project, Table } from '../model/project.js';
import { schemaNameOf } from '../resolve/fan-out.js';
import { plainIdent } from '../sql/quote.js';
import { keepsValues } from '../sql/types.js';
import type { ProjectChange } from './changes.js';

/** What a release may do with the rows that a table holds. */
export type Treatment = 'go on' | 'correct' | 'start over';

/** What becomes of a table that keeps rows, when its definition changes. */
export interface Migration {
  readonly table: string;
  readonly policy: LoadPolicy;
  /** What may be done, the usual thing first. */
  readonly choices: readonly Treatment[];
  /** The change of its columns, as statements. */
  readonly statements: readonly string[];
  /** Why the rows that are there cannot be gone on from. */
  readonly obstacle?: string;
  /** Tables that keep numbers of this one's rows: what becomes of them where it starts over. */
  readonly holders: readonly Holder[];
}

/** A table that keeps numbers of another one's rows. */
export interface Holder {
  readonly table: string;
  /** Whether it looks them up again; else it holds numbers of rows that are gone. */
  readonly looksUpAgain: boolean;
}

/** Who keeps numbers of a table's rows from load to load. Tables that are rebuilt look all of theirs up anyway. */
export function holdersOf(project: Project, table: string): Holder[] {
  return [...project.tables.values()].flatMap((t): Holder[] => {
    if (!goesOn(t)) return [];
    const holds = t.contract!.columns.some((c) => isLookUp(c) && lookedUpTable(t, c.name) === table);
    return holds ? [{ table: t.fullName, looksUpAgain: specOf(t).kind === 'merge' }] : [];
  });
}

/** Options that say what the rows of a table are: with others, the rows that are there mean something else. */
const MEANING = ['business_key', 'watermark', 'effective_from', 'order_within', 'key_method'] as const;

/** What two definitions of a table mean differently by its rows, in words; undefined where the later can go on from the former's. */
export function otherMeaning(before: Definition, after: Definition): string | undefined {
  // A column that has another name now still is the same column.
  const now = (name: string) =>
    after.contract!.columns.find((c) => renamedFrom(before, c.name, c.options['was']) === name)?.name ?? name;
  if (before.policy !== after.policy) return `its load was ${before.policy} and is ${after.policy}`;
  const value = (t: Definition, option: TableOption, nameOf: (name: string) => string) =>
    TABLE_OPTIONS[option].value.kind === 'columns'
      ? namesIn(optionOf(t, option)).map(nameOf).join()
      : optionOf(t, option);
  const changed = MEANING.find((o) => value(before, o, now) !== value(after, o, (name) => name));
  if (changed === undefined) return undefined;
  return `its ${changed} was ${optionOf(before, changed) ?? 'nothing'} and is ${optionOf(after, changed) ?? 'nothing'}`;
}

/** Tables of a release that keep rows and whose own definition changed. */
export function migrations(before: Project, after: Project, change: ProjectChange): Migration[] {
  return change.tables.flatMap((t): Migration[] => {
    const [old, fresh] = [before.tables.get(t.was ?? t.table), after.tables.get(t.table)];
    if ((t.kind !== 'changed' && t.kind !== 'renamed') || !goesOn(old) || !goesOn(fresh)) return [];
    const obstacle = otherMeaning(old, fresh);
    const corrects = specOf(fresh).kind === 'history' && queryText(before, old) !== queryText(after, fresh);
    return [
      {
        table: t.table,
        policy: fresh.policy,
        choices:
          obstacle === undefined
            ? ['go on', ...(corrects ? (['correct'] as const) : []), 'start over']
            : ['start over'],
        statements: [...renaming(old, fresh), ...columnStatements(old, fresh)],
        ...(obstacle === undefined ? {} : { obstacle }),
        holders: holdersOf(after, t.table),
      },
    ];
  });
}

/** Whether a table goes on from the rows that are there. */
const goesOn = (table: Table | undefined): table is Definition =>
  table?.kind === 'definition' && keepsRows(table) && table.contract !== undefined;
/** A definition may have a contract and, for the moment, no query that can be read. */
const queryText = (project: Project, { path, query }: Definition) =>
  query && project.files.get(path)!.text.slice(query.start, query.end);

/** Columns that stay, under their new names and types, with those that they had. */
function keptColumns(
  before: Definition,
  after: Definition,
): { name: string; type: string; was: string; typeWas: string }[] {
  return after.contract!.columns.flatMap(({ name, type, options }) => {
    const was = renamedFrom(before, name, options['was']) ?? name;
    const old = before.contract!.columns.find((o) => o.name === was);
    return old ? [{ name, type, was, typeWas: old.type }] : [];
  });
}

/** A table that bears another name moves there with all that it keeps. */
function renaming(before: Definition, after: Definition): string[] {
  if (before.fullName === after.fullName) return [];
  const from = `${plainIdent(schemaNameOf(before))}.${plainIdent(before.name)}`;
  return [
    `alter table ${from} rename to ${plainIdent(after.name)}; -- ${after.fullName}, with rows, numbers, events and grants`,
  ];
}

/** How the columns of one contract become those of another. */
function columnStatements(before: Definition, after: Definition): string[] {
  const alter = (action: string) =>
    `alter table ${plainIdent(schemaNameOf(after))}.${plainIdent(after.name)} ${action};`;
  const kept = new Map(keptColumns(before, after).map((c) => [c.name, c]));
  const statements: string[] = [];
  for (const column of after.contract!.columns) {
    const { name, type } = column;
    const old = kept.get(name);
    const holds = hasRole(column, ...GIVEN_LATE)
      ? 'given to the rows that are there, too'
      : 'null in the rows that are there';
    if (!old) statements.push(`${alter(`add column ${plainIdent(name)} ${type}`)} -- ${holds}`);
    else {
      if (old.was !== name) statements.push(alter(`rename column ${plainIdent(old.was)} to ${plainIdent(name)}`));
      if (old.typeWas !== type)
        statements.push(
          alter(`alter column ${plainIdent(name)} type ${type} using cast(${plainIdent(name)} as ${type})`),
        );
    }
  }
  for (const name of droppedColumns(before, after)) statements.push(alter(`drop column ${plainIdent(name)}`));
  return statements;
}

const renamedFrom = (before: Definition, name: string, was: string | undefined): string | undefined => {
  const has = (column: string) => before.contract!.columns.some((c) => c.name === column);
  return was !== undefined && has(was) && !has(name) ? was : undefined;
};

function droppedColumns(before: Definition, after: Definition): string[] {
  if (specOf(after).addsDrift) return [];
  const kept = new Set([
    ...after.contract!.columns.map((c) => c.name),
    ...keptColumns(before, after).map((c) => c.was),
  ]);
  return before.contract!.columns.filter((c) => !kept.has(c.name)).map((c) => c.name);
}

/** What a release takes away for good, or may cut: each needs someone's consent. */
export interface Loss {
  /** `core.dim_port` or `core.dim_port.flag_code`. */
  readonly of: string;
  /** The type that a column's values may not fit; without it what is named is dropped. */
  readonly cutTo?: string;
}

/**
 * What is lost by a release: tables whose definition is deleted, columns of tables that keep rows, and what their
 * values have too much for another type.
 */
export function losses(before: Project, after: Project, change: ProjectChange): Loss[] {
  return change.tables.flatMap((t): Loss[] => {
    const [old, fresh] = [before.tables.get(t.was ?? t.table), after.tables.get(t.table)];
    if (t.kind === 'deleted') return old?.kind === 'definition' && isView(old) ? [] : [{ of: t.table }];
    if (!goesOn(old) || !goesOn(fresh)) return [];
    const cut = keptColumns(old, fresh).filter((c) => !keepsValues(c.typeWas, c.type));
    return [
      ...droppedColumns(old, fresh).map((c) => ({ of: `${t.table}.${c}` })),
      ...cut.map((c) => ({ of: `${t.table}.${c.name}`, cutTo: c.type })),
    ];
  });
}
