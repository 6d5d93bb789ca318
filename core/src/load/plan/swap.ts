import { withoutSemicolon } from '../../sql/leading-words.js';
import { ident, idents, literal, qualified } from '../../sql/quote.js';
import type { Place } from '../../model/place.js';

/**
 * Moves tables and views that were made beside the old ones into place. What depends on the old ones
 * (views and functions, the project's and others') is dropped and made again in the same
 * transaction, with owners, grants and comments. The facts come from the catalog.
 */
export interface SwapItem {
  readonly target: Place;
  readonly staged: Place;
  readonly relation: 'table' | 'view';
  /** Where it stood under a former name: its grants come along. */
  readonly formerly?: Place | undefined;
}

/** A view or function that reads what is swapped; a row of `DEPENDENTS_SQL`, nearest first. */
export interface Dependent {
  readonly kind: 'view' | 'materialized view' | 'function' | 'procedure';
  readonly schema: string;
  readonly name: string;
  /** With argument types, for functions. */
  readonly identity: string;
  readonly depth: number;
  readonly owner: string;
  /** Whether the current user may act for the owner. */
  readonly ours: boolean;
  readonly definition: string;
  readonly options: readonly string[] | null;
  readonly grants: readonly Grant[];
  readonly comment: string | null;
  readonly column_comments: readonly { readonly column: string; readonly comment: string }[];
  readonly indexes: readonly string[];
}

export interface Grant {
  readonly grantee: string;
  readonly privilege: string;
  readonly grantable: boolean;
  readonly column: string | null;
}

/** What is in a target's place now; a row of `OLD_SQL`. */
export interface OldRelation {
  readonly schema: string;
  readonly name: string;
  readonly relkind: 'r' | 'v' | 'm' | 'p' | 'f';
  readonly owner: string;
  readonly ours: boolean;
  readonly grants: readonly Grant[];
  readonly comment: string | null;
  readonly column_comments: readonly { readonly column: string; readonly comment: string }[];
  /** Definitions of the indexes that no constraint owns, with their names. */
  readonly indexes: readonly { readonly name: string; readonly definition: string }[];
  readonly columns: readonly { readonly name: string; readonly type: string }[];
  /** What others attached to the table, which goes with it unless it is made again. */
  readonly attached: readonly Attached[];
}

/** Something that belongs to a table and is none of its definition: row security, a policy, a publication, statistics, a trigger and so on. */
export interface Attached {
  readonly kind: string;
  readonly name: string;
  /** Whether the current user may make it again. */
  readonly ours: boolean;
  readonly owner: string;
  /** Makes it again on the table that is in this place then. */
  readonly sql: string;
  /** Takes it off the table, which is kept elsewhere; null of what goes with something else. */
  readonly detach: string | null;
}

const GRANTS = (acl: string, column: string) => `
    select jsonb_build_object('grantee', case a.grantee when 0 then 'public' else pg_get_userbyid(a.grantee) end,
             'privilege', a.privilege_type, 'grantable', a.is_grantable, 'column', ${column}) as entry
    from aclexplode(${acl}) a`;

const RELATION_GRANTS = `
  (select coalesce(jsonb_agg(g.entry), '[]') from (${GRANTS('c.relacl', 'null')} where a.grantee <> c.relowner
    union all
    select e.entry from pg_attribute t, lateral (${GRANTS('t.attacl', 't.attname')} where a.grantee <> c.relowner) e where t.attrelid = c.oid) g)`;

const COLUMN_COMMENTS = `
  (select coalesce(jsonb_agg(jsonb_build_object('column', t.attname, 'comment', d.description) order by t.attnum), '[]')
   from pg_description d join pg_attribute t on t.attrelid = d.objoid and t.attnum = d.objsubid
   where d.classoid = 'pg_class'::regclass and d.objoid = c.oid and d.objsubid > 0)`;

const TABLE = `format('%I.%I', n.nspname, c.relname)`;
/** @param detach takes it off, as an SQL expression */
const ATTACHED_ITEM = (
  [kind, name]: readonly [kind: string, name: string],
  sql: string,
  detach: string,
  { ours = 'true', owner = `''` }: { readonly ours?: string; readonly owner?: string } = {},
) =>
  `jsonb_build_object('kind', '${kind}', 'name', ${name}, 'ours', ${ours}, 'owner', ${owner}, 'sql', ${sql}, 'detach', ${detach})`;
/** An action on the table that is asked about, as an SQL expression. */
const ALTER = (action: string) => `'alter table ' || ${TABLE} || ' ${action}'`;

/** All that is attached to a table, each with the statement that makes it again. */
const ATTACHED = `
  (select coalesce(jsonb_agg(a.entry order by a.n), '[]') from (
    select 1 as n, ${ATTACHED_ITEM(['row security', `''`], ALTER('enable row level security'), ALTER('disable row level security'))} as entry where c.relrowsecurity
    union all
    select 2, ${ATTACHED_ITEM(['row security', `'forced'`], ALTER('force row level security'), ALTER('no force row level security'))} where c.relforcerowsecurity
    union all
    select 3, ${ATTACHED_ITEM(
      ['policy', 'p.polname'],
      `format('create policy %I on %s as %s for %s to %s', p.polname, ${TABLE}, case when p.polpermissive then 'permissive' else 'restrictive' end,
        case p.polcmd when 'r' then 'select' when 'a' then 'insert' when 'w' then 'update' when 'd' then 'delete' else 'all' end,
        (select string_agg(case r when 0 then 'public' else quote_ident(pg_get_userbyid(r)) end, ', ') from unnest(p.polroles) as r))
        || coalesce(' using (' || pg_get_expr(p.polqual, p.polrelid) || ')', '') || coalesce(' with check (' || pg_get_expr(p.polwithcheck, p.polrelid) || ')', '')`,
      `format('drop policy %I on %s', p.polname, ${TABLE})`,
    )} from pg_policy p where p.polrelid = c.oid
    union all
    select 4, ${ATTACHED_ITEM(
      ['statistics', 's.stxname'],
      'pg_get_statisticsobjdef(s.oid)',
      `format('drop statistics %s.%I', s.stxnamespace::regnamespace, s.stxname)`,
    )} from pg_statistic_ext s where s.stxrelid = c.oid
    union all
    select 5, ${ATTACHED_ITEM(
      ['trigger', 't.tgname'],
      'pg_get_triggerdef(t.oid)',
      `format('drop trigger %I on %s', t.tgname, ${TABLE})`,
    )} from pg_trigger t where t.tgrelid = c.oid and not t.tgisinternal
    union all
    select 6, ${ATTACHED_ITEM(
      ['trigger', 't.tgname'],
      `format('alter table %s %s trigger %I', ${TABLE}, case t.tgenabled when 'D' then 'disable' when 'R' then 'enable replica' else 'enable always' end, t.tgname)`,
      'null',
    )} from pg_trigger t where t.tgrelid = c.oid and not t.tgisinternal and t.tgenabled <> 'O'
    union all
    select 7, ${ATTACHED_ITEM(
      ['replica identity', `''`],
      `'alter table ' || ${TABLE} || ' replica identity ' || case c.relreplident when 'f' then 'full' when 'n' then 'nothing' else 'using index ' || (
        select quote_ident(i.relname) from pg_index x join pg_class i on i.oid = x.indexrelid where x.indrelid = c.oid and x.indisreplident) end`,
      ALTER('replica identity default'),
    )} where c.relreplident <> 'd'
    union all
    select 8, ${ATTACHED_ITEM(
      ['publication', 'b.pubname'],
      `format('alter publication %I add table %s', b.pubname, ${TABLE})
        || coalesce(' (' || (select string_agg(quote_ident(k.attname), ', ' order by k.attnum) from pg_attribute k where k.attrelid = c.oid and k.attnum = any(l.prattrs)) || ')', '')
        || coalesce(' where (' || pg_get_expr(l.prqual, l.prrelid) || ')', '')`,
      `format('alter publication %I drop table %s', b.pubname, ${TABLE})`,
      { ours: `pg_has_role(b.pubowner, 'USAGE')`, owner: 'pg_get_userbyid(b.pubowner)' },
    )} from pg_publication_rel l join pg_publication b on b.oid = l.prpubid where l.prrelid = c.oid
    union all
    select 9, ${ATTACHED_ITEM(
      ['security label', 'g.provider'],
      `format('security label for %I on table %s is %L', g.provider, ${TABLE}, g.label)`,
      `format('security label for %I on table %s is null', g.provider, ${TABLE})`,
    )}
    from pg_seclabel g where g.objoid = c.oid and g.classoid = 'pg_class'::regclass and g.objsubid = 0
    union all
    select 10, ${ATTACHED_ITEM(
      ['owner', 'pg_get_userbyid(c.relowner)'],
      `format('alter table %s owner to %I', ${TABLE}, pg_get_userbyid(c.relowner))`,
      ALTER('owner to current_user'),
    )}
    where pg_get_userbyid(c.relowner) <> current_user) as a)`;

/** Parameters: schemas text[], names text[] of the targets. */
export const OLD_SQL = `
select n.nspname as schema, c.relname as name, c.relkind, pg_get_userbyid(c.relowner) as owner,
  pg_has_role(c.relowner, 'USAGE') as ours, ${RELATION_GRANTS} as grants,
  obj_description(c.oid, 'pg_class') as comment, ${COLUMN_COMMENTS} as column_comments,
  (select coalesce(jsonb_agg(jsonb_build_object('name', i.relname, 'definition', pg_get_indexdef(i.oid)) order by i.relname), '[]')
   from pg_index x join pg_class i on i.oid = x.indexrelid
   where x.indrelid = c.oid and not exists (
     select from pg_constraint k where k.conrelid = c.oid and k.conindid = i.oid and k.contype in ('p', 'u', 'x'))) as indexes,
  (select coalesce(jsonb_agg(jsonb_build_object('name', t.attname, 'type', format_type(t.atttypid, t.atttypmod)) order by t.attnum), '[]')
   from pg_attribute t where t.attrelid = c.oid and t.attnum > 0 and not t.attisdropped) as columns,
  case c.relkind when 'r' then ${ATTACHED} else '[]' end as attached
from pg_class c join pg_namespace n on n.oid = c.relnamespace
where (n.nspname, c.relname) in (select * from unnest($1::text[], $2::text[])) and c.relkind in ('r', 'v', 'm', 'p', 'f')`;

/**
 * Everything that depends on the targets, through any number of steps, types of their rows included; the
 * targets themselves are left out. Parameters as in OLD_SQL.
 */
export const DEPENDENTS_SQL = `
with recursive target as (
  select c.oid from pg_class c join pg_namespace n on n.oid = c.relnamespace
  where (n.nspname, c.relname) in (select * from unnest($1::text[], $2::text[]))
), dependent(classid, objid, depth) as (
  select 'pg_class'::regclass::oid, oid, 0 from target
  union
  select case when r.oid is null then d.classid else 'pg_class'::regclass::oid end, coalesce(r.ev_class, d.objid), p.depth + 1
  from dependent p
  join pg_depend d on d.refclassid = p.classid and d.refobjid = p.objid
  left join pg_rewrite r on d.classid = 'pg_rewrite'::regclass and r.oid = d.objid
  where (r.oid is not null or d.classid in ('pg_proc'::regclass, 'pg_type'::regclass)) and coalesce(r.ev_class, d.objid) <> p.objid
), deepest as (
  select classid, objid, max(depth) as depth from dependent where depth > 0 group by classid, objid
)
select case c.relkind when 'm' then 'materialized view' else 'view' end as kind, n.nspname as schema, c.relname as name,
  '' as identity, d.depth, pg_get_userbyid(c.relowner) as owner, pg_has_role(c.relowner, 'USAGE') as ours,
  pg_get_viewdef(c.oid) as definition, c.reloptions as options, ${RELATION_GRANTS} as grants,
  obj_description(c.oid, 'pg_class') as comment, ${COLUMN_COMMENTS} as column_comments,
  (select coalesce(jsonb_agg(pg_get_indexdef(x.indexrelid)), '[]') from pg_index x where x.indrelid = c.oid) as indexes
from deepest d join pg_class c on d.classid = 'pg_class'::regclass and c.oid = d.objid
join pg_namespace n on n.oid = c.relnamespace
where c.relkind in ('v', 'm') and c.oid not in (select oid from target)
union all
select case p.prokind when 'p' then 'procedure' else 'function' end, n.nspname, p.proname,
  pg_get_function_identity_arguments(p.oid), d.depth, pg_get_userbyid(p.proowner), pg_has_role(p.proowner, 'USAGE'),
  pg_get_functiondef(p.oid), null, (select coalesce(jsonb_agg(g.entry), '[]') from (${GRANTS('p.proacl', 'null')} where a.grantee <> p.proowner) g),
  obj_description(p.oid, 'pg_proc'), '[]', '[]'
from deepest d join pg_proc p on d.classid = 'pg_proc'::regclass and p.oid = d.objid
join pg_namespace n on n.oid = p.pronamespace
order by depth, schema, name`;

/** What cannot be made again, as people are told of it. */
export type Blocker = Pick<Dependent, 'schema' | 'name' | 'owner'> & { readonly kind: string };

export interface SwapPlan {
  readonly statements: readonly string[];
  /** Dependents that are gone once the statements have run, nearest first: they are not made again here. */
  readonly gone: readonly Dependent[];
  /** What was attached to tables that go, as it is made again. */
  readonly attached: readonly (Attached & Place)[];
  /** Set when the swap cannot be done by renaming: what is in the way. */
  readonly blockedBy?: readonly Blocker[];
}

/**
 * The statements of one swap.
 * @param items in dependency order, each after what it reads
 * @param dropped places that go without a successor
 * @param goes dependents that are dropped and not made again: they hold up no swap, and nothing of theirs is run
 * @param regranted roles whose rights are not those of before: they get them anew, by what the new table holds
 * @param keptIn where the table that was in a place is kept instead of being dropped; without what others attached to it
 *   and their rights where another one takes its place, with them where none does
 */
export function planSwap(
  items: readonly SwapItem[],
  old: readonly OldRelation[],
  dependents: readonly Dependent[],
  {
    dropped = [],
    goes = () => false,
    regranted = [],
    keptIn = () => undefined,
  }: {
    readonly dropped?: readonly Place[];
    readonly goes?: (dependent: Dependent) => boolean;
    readonly regranted?: readonly string[];
    readonly keptIn?: KeptIn;
  } = {},
): SwapPlan {
  const gone = dependents.filter(goes);
  const kept = dependents.filter((d) => !goes(d));
  const oldAt = (place: Place) => old.find((o) => o.schema === place.schema && o.name === place.name);
  const attached = items.flatMap(({ target }) =>
    (oldAt(target)?.attached ?? []).map((a) => ({ ...a, schema: target.schema, name: a.name })),
  );
  // What is attached to a table names it: under another name it cannot be made again.
  const left = items.flatMap(({ formerly }) =>
    formerly
      ? (oldAt(formerly)?.attached ?? []).map((a) => ({ ...a, schema: formerly.schema, name: formerly.name }))
      : [],
  );
  const blockers: Blocker[] = [...[...kept, ...attached].filter((d) => !d.ours), ...left];
  if (blockers.length) return { statements: [], gone: [], attached: [], blockedBy: blockers };
  const statements: string[] = [];
  // A view in a session's own schema of temporary tables belongs to nobody who could be asked.
  const temporary = gone.some(isTemporary);
  for (const d of [...dependents].reverse()) if (!isTemporary(d)) statements.push(`drop ${d.kind} ${dependentName(d)}`);
  // One statement for each kind: old views may read each other in any order.
  const all = [...items.map((i) => i.target), ...dropped].flatMap((place) => oldAt(place) ?? []);
  const isKept = (o: OldRelation) => o.relkind === 'r' && keptIn(o) !== undefined;
  const moved = all.filter(isKept);
  const going = all.filter((o) => !isKept(o));
  for (const word of ['view', 'materialized view', 'foreign table', 'table']) {
    const names = going.filter((o) => dropWord(o.relkind) === word).map(qualified);
    if (names.length) statements.push(`drop ${word} ${names.join(', ')}${temporary ? ' cascade' : ''}`);
  }
  // Views that go have gone: what reads the tables now is none of what is swapped.
  for (const o of moved) if (items.some(({ target }) => oldAt(target) === o)) statements.push(...bare(o));
  if (moved.length > 0) statements.push(couldGo(moved, temporary));
  for (const o of moved) statements.push(`alter table ${qualified(o)} set schema ${ident(keptIn(o)!)}`);
  for (const item of items) {
    statements.push(`alter ${item.relation} ${qualified(item.staged)} set schema ${ident(item.target.schema)}`);
    const before = oldAt(item.target) ?? (item.formerly && oldAt(item.formerly));
    const grants = before?.grants.filter((g) => !regranted.includes(g.grantee)) ?? [];
    statements.push(...grantStatements('table', qualified(item.target), grants));
  }
  // Bodies may name tables as their callers find them, which this session does not.
  if (kept.some(isRoutine)) statements.push('set local check_function_bodies = off');
  for (const d of kept)
    statements.push(...remake(d, [`alter ${d.kind} ${dependentName(d)} owner to ${ident(d.owner)}`]));
  return { statements, gone, attached };
}

/** The schema that keeps a table which another one replaces, or which goes; undefined where it is dropped. */
export type KeptIn = (old: Place) => string | undefined;

/**
 * Drops tables and takes that back: what others made depend on them, such as a foreign key or a policy of another table,
 * is an error as it is where tables are dropped. It would go along with the table that is kept, unseen.
 */
const couldGo = (tables: readonly OldRelation[], isCascading: boolean): string =>
  `do ${literal(
    `begin drop table ${tables.map(qualified).join(', ')}${isCascading ? ' cascade' : ''}; raise exception using errcode = '${COULD_GO}'; exception when sqlstate '${COULD_GO}' then null; end`,
  )}`;
const COULD_GO = 'OUVGO';

/** What takes off a table all that others attached to it, and their rights. */
function bare(old: OldRelation): string[] {
  const grantees = [...new Set(old.grants.map((g) => g.grantee))];
  return [
    // With a table's rights those to its columns go, too.
    ...grantees.map((g) => `revoke all on table ${qualified(old)} from ${g === 'public' ? g : ident(g)}`),
    ...old.attached.flatMap((a) => a.detach ?? []),
  ];
}

const isTemporary = ({ schema }: Dependent): boolean => /^pg_temp_\d+$/.test(schema);
const isRoutine = ({ kind }: Dependent): boolean => kind === 'function' || kind === 'procedure';

/**
 * The statements with which the owner of a dependent makes it again. Materialized views, whose making runs
 * their query, are left to who wants them.
 */
export function remadeByOwner(d: Dependent): string[] {
  if (d.kind === 'materialized view' || isTemporary(d)) return [];
  return [...(isRoutine(d) ? ['set local check_function_bodies = off'] : []), ...remake(d, [])];
}

/**
 * In place of a swap where dependents cannot be made again: the rows of the old table are replaced,
 * which needs the same columns.
 * @param kept where a copy of the old rows is kept
 */
export function planReplaceInPlace(item: SwapItem, kept?: string): string[] {
  return [
    ...(kept === undefined ? [] : copied(item.target, kept)),
    `delete from ${qualified(item.target)}`,
    `insert into ${qualified(item.target)} select * from ${qualified(item.staged)}`,
    `drop ${item.relation} ${qualified(item.staged)}`,
  ];
}

/** Copies a table into another schema, under its name. */
export function copied(from: Place, schema: string): string[] {
  const copy = qualified({ schema, name: from.name });
  return [
    `create table ${copy} (like ${qualified(from)} including all)`,
    `insert into ${copy} select * from ${qualified(from)}`,
  ];
}

/**
 * What was made on the old table by hand and is kept: indexes and comments that the new one lacks.
 * Made beside, before the swap. An index over a column that is gone is left out.
 */
export function keptFromOld(
  item: SwapItem,
  before: OldRelation,
  fresh: {
    readonly columns: readonly string[];
    readonly indexes: readonly string[];
    readonly commented: readonly string[];
    readonly comment: boolean;
  },
): string[] {
  const statements: string[] = [];
  if (item.relation === 'table' && before.relkind === 'r') {
    for (const index of before.indexes) {
      if (fresh.indexes.includes(index.name)) continue;
      const gone = before.columns.some((c) => !fresh.columns.includes(c.name) && mentions(index.definition, c.name));
      const on = / ON (ONLY )?/.exec(index.definition);
      const using = index.definition.indexOf(' USING ');
      if (gone || !on || using < 0) continue;
      statements.push(
        `${index.definition.slice(0, on.index)} ON ${qualified(item.staged)}${index.definition.slice(using)}`,
      );
    }
  }
  if (!fresh.comment && before.comment !== null)
    statements.push(`comment on ${item.relation} ${qualified(item.staged)} is ${literal(before.comment)}`);
  for (const { column, comment } of before.column_comments) {
    if (fresh.columns.includes(column) && !fresh.commented.includes(column)) {
      statements.push(`comment on column ${qualified(item.staged)}.${ident(column)} is ${literal(comment)}`);
    }
  }
  return statements;
}

/** Whether an index definition names a column, quoted or not. */
function mentions(definition: string, column: string): boolean {
  return (
    definition.includes(ident(column)) ||
    new RegExp(`(^|[^\\w"])${column.replaceAll(/[^\w]/g, '\\$&')}([^\\w"]|$)`).test(
      definition.slice(definition.indexOf(' USING ')),
    )
  );
}

function dropWord(relkind: OldRelation['relkind']): string {
  return relkind === 'v' ? 'view' : relkind === 'm' ? 'materialized view' : relkind === 'f' ? 'foreign table' : 'table';
}

function dependentName(d: Dependent): string {
  return isRoutine(d) ? `${qualified(d)}(${d.identity})` : qualified(d);
}

/** @param owned what gives it to its owner, where someone else makes it */
function remake(d: Dependent, owned: readonly string[]): string[] {
  const name = dependentName(d);
  const statements: string[] = [];
  if (isRoutine(d)) statements.push(d.definition);
  else {
    const options = d.options?.length ? ` with (${d.options.join(', ')})` : '';
    statements.push(`create ${d.kind} ${name}${options} as\n${withoutSemicolon(d.definition)}`);
  }
  statements.push(...owned, ...d.indexes);
  if (isRoutine(d)) {
    if (d.grants.length) statements.push(`revoke all on ${d.kind} ${name} from public`);
    statements.push(...grantStatements(d.kind, name, d.grants));
  } else statements.push(...grantStatements('table', name, d.grants));
  if (d.comment !== null) statements.push(`comment on ${d.kind} ${name} is ${literal(d.comment)}`);
  for (const c of d.column_comments)
    statements.push(`comment on column ${name}.${ident(c.column)} is ${literal(c.comment)}`);
  return statements;
}

function grantStatements(kind: string, name: string, grants: readonly Grant[]): string[] {
  return grants.map(({ privilege, column, grantee, grantable }) => {
    const what = column === null ? privilege : `${privilege} (${idents([column])})`;
    return `grant ${what} on ${kind} ${name} to ${grantee === 'public' ? 'public' : ident(grantee)}${grantable ? ' with grant option' : ''}`;
  });
}
