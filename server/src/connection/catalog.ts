import type { CatalogEntry } from '@ouvrage/api/source';
import type { CatalogTable } from '@ouvrage/core/intake';
import { shortType } from '@ouvrage/core/sql';
import type pg from 'pg';

type Listed = Omit<CatalogEntry, 'declared'>;

const READABLE = `c.relkind in ('r', 'p', 'v', 'm', 'f') and n.nspname not in ('pg_catalog', 'information_schema') and n.nspname !~ '^pg_'
  and has_schema_privilege(n.oid, 'usage') and has_table_privilege(c.oid, 'select')`;

/** All tables and views that the connection can read. */
export async function listTables(client: pg.Client): Promise<Listed[]> {
  const { rows } = await client.query<Listed>(
    `select n.nspname as schema, c.relname as name, case when c.relkind in ('v', 'm') then 'view' else 'table' end as kind,
       obj_description(c.oid, 'pg_class') as comment,
       case when c.relkind = 'v' or c.reltuples < 0 then null
         when c.relkind = 'p' then (select sum(greatest(p.reltuples, 0)) from pg_inherits i join pg_class p on p.oid = i.inhrelid where i.inhparent = c.oid)
         else c.reltuples end::float8 as rows,
       c.relnatts::int as columns
     from pg_class c join pg_namespace n on n.oid = c.relnamespace
     where ${READABLE} and not c.relispartition order by 1, 2`,
  );
  return rows;
}

/** Columns, keys and relations of some tables, in one query whatever their number. */
export async function describeTables(
  client: pg.Client,
  tables: readonly { readonly schema: string; readonly name: string }[],
): Promise<CatalogTable[]> {
  const { rows } = await client.query<CatalogTable>(
    `select n.nspname as schema, c.relname as name, obj_description(c.oid, 'pg_class') as comment,
       (select coalesce(jsonb_agg(jsonb_build_object(
            'name', a.attname, 'notNull', a.attnotnull, 'comment', col_description(c.oid, a.attnum),
            'type', case when bt.typnamespace = 'pg_catalog'::regnamespace then format_type(coalesce(nullif(t.typbasetype, 0), t.oid),
                case when t.typbasetype <> 0 then t.typtypmod else a.atttypmod end) else 'text' end) order by a.attnum), '[]')
          from pg_attribute a join pg_type t on t.oid = a.atttypid join pg_type bt on bt.oid = coalesce(nullif(t.typbasetype, 0), t.oid)
          where a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped) as columns,
       (select coalesce(jsonb_agg(a.attname order by k.n), '[]') from pg_constraint p, unnest(p.conkey) with ordinality k (attnum, n)
          join pg_attribute a on a.attrelid = c.oid and a.attnum = k.attnum where p.conrelid = c.oid and p.contype = 'p') as "primaryKey",
       (select coalesce(jsonb_agg(jsonb_build_object('schema', fn.nspname, 'table', fc.relname,
            'columns', (select jsonb_agg(a.attname order by k.n) from unnest(f.conkey) with ordinality k (attnum, n) join pg_attribute a on a.attrelid = f.conrelid and a.attnum = k.attnum),
            'references', (select jsonb_agg(a.attname order by k.n) from unnest(f.confkey) with ordinality k (attnum, n) join pg_attribute a on a.attrelid = f.confrelid and a.attnum = k.attnum)
          ) order by f.conname), '[]')
          from pg_constraint f join pg_class fc on fc.oid = f.confrelid join pg_namespace fn on fn.oid = fc.relnamespace
          where f.conrelid = c.oid and f.contype = 'f') as "foreignKeys"
     from unnest($1::text[], $2::text[]) with ordinality as asked (schema, name, n)
     join pg_namespace n on n.nspname = asked.schema join pg_class c on c.relnamespace = n.oid and c.relname = asked.name
     where ${READABLE} order by asked.n`,
    [tables.map((t) => t.schema), tables.map((t) => t.name)],
  );
  return rows.map((t) => ({ ...t, columns: t.columns.map((c) => ({ ...c, type: shortType(c.type) })) }));
}
