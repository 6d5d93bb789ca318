import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { loadText } from '../load/testing.js';

beforeAll(loadParser);

describe('A dimension that facts look up has an unknown member, and placeholders where they ask for them.', () => {
  test('merged, placeholders asked for', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, call_no text not null, berth_code text options (unknown 'nowhere') not null, tonnage numeric(12,2) not null) with (load = merge, business_key = 'call_no', missing_rows = delete)",
        query: 'select call_no, berth_code, tonnage from landing.call',
        files: {
          'core/visit.sql':
            "create table core.visit (call_no text not null, id bigint options (looked_up_by 'call_no', missing 'infer') references core.t (id)) with (load = merge, business_key = 'call_no');\nselect call_no from landing.call;",
        },
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     lock table "core"."t" in share row exclusive mode;
     create temp view query_rows as
     select cast(q."call_no" as text) as "call_no",
            cast(q."berth_code" as text) as "berth_code",
            cast(q."tonnage" as numeric(12,2)) as "tonnage"
     from (
     select call_no, berth_code, tonnage from "landing"."call"
     ) as q;
     set local parallel_tuple_cost to default;
     -- stops: the query’s rows cannot be loaded
     select q."call_no" from pg_temp.query_rows as q group by q."call_no" having count(*) > 1 or q."call_no" is null
     limit 100;
       -- stops: the query returns rows whose call_no is null [keys_are_known]: Filter them out in the query, or give them a value.
       select * from pg_temp.query_rows as q where q."call_no" is null
       limit 100;
       -- stops: the query returns more than one row for a call_no [one_row_a_key]: Decide in the query which row counts: distinct on, or a condition.
       select q."call_no", count(*) as rows from pg_temp.query_rows as q group by q."call_no" having count(*) > 1
       limit 100;
       -- shows
       select * from pg_temp.query_rows as q
       where (q."call_no") in (select q."call_no" from pg_temp.query_rows as q group by q."call_no" having count(*) > 1)
       order by q."call_no"
       limit 100;
     -- stops: the query returns no rows: Every row would count as missing (missing_rows = delete). If that is intended, set empty = allow.
     select 'the query returned no row' as problem where not exists (select from pg_temp.query_rows) and exists (select from "core"."t")
     limit 100;
     set local parallel_tuple_cost = 0;
     create table if not exists "core"."t~keys" (
       "call_no" text not null,
       number bigint not null unique,
       primary key ("call_no")
     );
     create table if not exists "core"."t~last" (map text primary key, number bigint not null);
     create table if not exists "core"."t~inferred" (
       "call_no" text not null,
       primary key ("call_no")
     );
     lock table "core"."t~inferred" in share row exclusive mode;
     create temp table completed on commit drop as
     select q."call_no"
     from pg_temp.query_rows as q join "core"."t~inferred" as i on i."call_no" = q."call_no"
     left join (select * from "core"."t" where false) as t on true
     where (true) and not (false)
     group by q."call_no";
     delete from "core"."t" as t using pg_temp.completed as c where t."call_no" = c."call_no";
     delete from "core"."t~inferred" as i using pg_temp.completed as c where i."call_no" = c."call_no";
     -- counts
     select count(*) filter (where true) as "completed"
     from pg_temp.completed;
     -- completed: select * from pg_temp.completed where true limit 50;
     drop table if exists pg_temp.completed;
     create temp view found_changes as select * from (
       select q."call_no", q."berth_code", q."tonnage", t.row_id$, case
         when q."call_no" is null then 'missing'
         when (false) then case when t.row_id$ is null then null else 'deleted' end
         when t.row_id$ is null then case when (true) then 'inserted' end
         when ((t."berth_code", t."tonnage") is distinct from (q."berth_code", q."tonnage")) and (true) then 'updated'
       end as op$
       from pg_temp.query_rows as q
       full join (select *, ctid as row_id$ from "core"."t" as m where m."id" <> 0 and not exists (select from "core"."t~inferred" as i where i."call_no" = m."call_no")) as t on q."call_no" = t."call_no"
     ) as found
     where op$ is not null;
     create temp table changes on commit drop as select * from pg_temp.found_changes;
     analyze pg_temp.changes ("row_id$", "op$");
     -- chooses a shape
     select of_rows >= 10000 and changed > 0.15 * of_rows as rewrite,
       format('%s: %s%s of about %s rows change (above 15 %% all rows are rewritten)', case when of_rows >= 10000 and changed > 0.15 * of_rows then 'all rows rewritten' else 'changed in place' end, about, changed, of_rows) as note
     from (select count(*) as changed, '' as about from pg_temp.changes) as n, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c;
     -- in place
       -- stops: rows without call_no cannot be numbered [key_map_is_complete]: Filter them out in the query, or give them a value.
       select * from (select * from pg_temp.changes where op$ = 'inserted') as n where n."call_no" is null
       limit 100;
       insert into "core"."t~keys" ("call_no", number)
       select "call_no", greatest(0, (select max(number) from "core"."t~keys"), (select l.number from "core"."t~last" as l where l.map = 'keys')) + row_number() over (order by "call_no")
       from (select distinct "call_no" from (select * from pg_temp.changes where op$ = 'inserted') as keyed) as n
       where not exists (select from "core"."t~keys" as k where k."call_no" = n."call_no");
       insert into "core"."t~last" as l (map, number)
       select 'keys', given from (select max(number) as given from "core"."t~keys") as m where given is not null
       on conflict (map) do update set number = excluded.number where l.number < excluded.number;
       set local enable_hashjoin = off;
       set local enable_mergejoin = off;
       delete from "core"."t" as t using (select * from pg_temp.changes where op$ in ('deleted', 'missing') order by row_id$) as c where t.ctid = c.row_id$;
       update "core"."t" as t set "berth_code" = c."berth_code", "tonnage" = c."tonnage"
       from (select * from pg_temp.changes where op$ = 'updated' order by row_id$) as c where t.ctid = c.row_id$;
       set local enable_hashjoin to default;
       set local enable_mergejoin to default;
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage")
       select keys.number as "id", c."call_no" as "call_no", c."berth_code" as "berth_code", c."tonnage" as "tonnage"
       from pg_temp.changes as c
       join "core"."t~keys" as keys on keys."call_no" = c."call_no"
       where c.op$ = 'inserted';
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage")
       select cast(0 as bigint), cast('' as text), cast('nowhere' as text), cast(0 as numeric(12,2))
       where not exists (select from "core"."t" where "id" = 0);
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage")
       select keys.number, i."call_no", cast('nowhere' as text), cast(0 as numeric(12,2))
       from "core"."t~inferred" as i
       join "core"."t~keys" as keys on keys."call_no" = i."call_no"
       where not exists (select from "core"."t" as t where t."call_no" = i."call_no");
       -- counts
       select count(*) filter (where op$ = 'inserted') as "inserted",
              count(*) filter (where op$ = 'updated') as "updated",
              count(*) filter (where op$ in ('deleted', 'missing')) as "deleted"
       from pg_temp.changes;
       -- inserted: select * from pg_temp.changes where op$ = 'inserted' limit 50;
       -- updated: select * from pg_temp.changes where op$ = 'updated' limit 50;
       -- deleted: select * from pg_temp.changes where op$ in ('deleted', 'missing') limit 50;
     -- rewritten
       -- stops: rows without call_no cannot be numbered [key_map_is_complete]: Filter them out in the query, or give them a value.
       select * from (select * from pg_temp.changes where op$ = 'inserted') as n where n."call_no" is null
       limit 100;
       insert into "core"."t~keys" ("call_no", number)
       select "call_no", greatest(0, (select max(number) from "core"."t~keys"), (select l.number from "core"."t~last" as l where l.map = 'keys')) + row_number() over (order by "call_no")
       from (select distinct "call_no" from (select * from pg_temp.changes where op$ = 'inserted') as keyed) as n
       where not exists (select from "core"."t~keys" as k where k."call_no" = n."call_no");
       insert into "core"."t~last" as l (map, number)
       select 'keys', given from (select max(number) as given from "core"."t~keys") as m where given is not null
       on conflict (map) do update set number = excluded.number where l.number < excluded.number;
       create table "core~next"."t" as
       select t."id",
              t."call_no",
              case when c.op$ = 'updated' then c."berth_code" else t."berth_code" end as "berth_code",
              case when c.op$ = 'updated' then c."tonnage" else t."tonnage" end as "tonnage"
       from "core"."t" as t left join pg_temp.changes as c on c.row_id$ = t.ctid
       where (c.op$ in ('deleted', 'missing')) is not true
       union all
       select keys.number as "id", c."call_no" as "call_no", c."berth_code" as "berth_code", c."tonnage" as "tonnage"
       from pg_temp.changes as c
       join "core"."t~keys" as keys on keys."call_no" = c."call_no"
       where c.op$ = 'inserted';
       insert into "core~next"."t" ("id", "call_no", "berth_code", "tonnage")
       select cast(0 as bigint), cast('' as text), cast('nowhere' as text), cast(0 as numeric(12,2))
       where not exists (select from "core~next"."t" where "id" = 0);
       insert into "core~next"."t" ("id", "call_no", "berth_code", "tonnage")
       select keys.number, i."call_no", cast('nowhere' as text), cast(0 as numeric(12,2))
       from "core"."t~inferred" as i
       join "core"."t~keys" as keys on keys."call_no" = i."call_no"
       where not exists (select from "core~next"."t" as t where t."call_no" = i."call_no");
       -- counts
       select count(*) filter (where op$ = 'inserted') as "inserted",
              count(*) filter (where op$ = 'updated') as "updated",
              count(*) filter (where op$ in ('deleted', 'missing')) as "deleted"
       from pg_temp.changes;
       -- inserted: select * from pg_temp.changes where op$ = 'inserted' limit 50;
       -- updated: select * from pg_temp.changes where op$ = 'updated' limit 50;
       -- deleted: select * from pg_temp.changes where op$ in ('deleted', 'missing') limit 50;
     drop table if exists pg_temp.changes;
     drop view if exists pg_temp.found_changes;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('merged, rewritten, none asked for', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, call_no text not null, berth_code text, tonnage numeric(12,2)) with (load = merge, business_key = 'call_no', shape = rewrite)",
        query: 'select call_no, berth_code, tonnage from landing.call',
        files: {
          'core/visit.sql':
            "create table core.visit (call_no text not null, id bigint options (looked_up_by 'call_no') references core.t (id)) with (load = merge, business_key = 'call_no');\nselect call_no from landing.call;",
        },
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     lock table "core"."t" in share row exclusive mode;
     create temp view query_rows as
     select cast(q."call_no" as text) as "call_no",
            cast(q."berth_code" as text) as "berth_code",
            cast(q."tonnage" as numeric(12,2)) as "tonnage"
     from (
     select call_no, berth_code, tonnage from "landing"."call"
     ) as q;
     set local parallel_tuple_cost to default;
     -- stops: the query’s rows cannot be loaded
     select q."call_no" from pg_temp.query_rows as q group by q."call_no" having count(*) > 1 or q."call_no" is null
     limit 100;
       -- stops: the query returns rows whose call_no is null [keys_are_known]: Filter them out in the query, or give them a value.
       select * from pg_temp.query_rows as q where q."call_no" is null
       limit 100;
       -- stops: the query returns more than one row for a call_no [one_row_a_key]: Decide in the query which row counts: distinct on, or a condition.
       select q."call_no", count(*) as rows from pg_temp.query_rows as q group by q."call_no" having count(*) > 1
       limit 100;
       -- shows
       select * from pg_temp.query_rows as q
       where (q."call_no") in (select q."call_no" from pg_temp.query_rows as q group by q."call_no" having count(*) > 1)
       order by q."call_no"
       limit 100;
     set local parallel_tuple_cost = 0;
     create table if not exists "core"."t~keys" (
       "call_no" text not null,
       number bigint not null unique,
       primary key ("call_no")
     );
     create table if not exists "core"."t~last" (map text primary key, number bigint not null);
     create temp view found_changes as select * from (
       select q."call_no", q."berth_code", q."tonnage", t.row_id$, case
         when q."call_no" is null then null
         when (false) then case when t.row_id$ is null then null else 'deleted' end
         when t.row_id$ is null then case when (true) then 'inserted' end
         when ((t."berth_code", t."tonnage") is distinct from (q."berth_code", q."tonnage")) and (true) then 'updated'
       end as op$
       from pg_temp.query_rows as q
       left join (select *, ctid as row_id$ from "core"."t" as m where m."id" <> 0) as t on q."call_no" = t."call_no"
     ) as found
     where op$ is not null;
     -- chooses a shape
     select changed > 0 as rewrite,
       format('%s: %s%s of about %s rows change (shape = rewrite)', case when changed > 0 then 'all rows rewritten' else 'changed in place' end, about, changed, of_rows) as note
     from (select count(*) as changed, '' as about from pg_temp.found_changes) as n, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c;
     -- in place
       create temp table changes on commit drop as select * from pg_temp.found_changes;
       analyze pg_temp.changes ("row_id$", "op$");
       -- stops: rows without call_no cannot be numbered [key_map_is_complete]: Filter them out in the query, or give them a value.
       select * from (select * from pg_temp.changes where op$ = 'inserted') as n where n."call_no" is null
       limit 100;
       insert into "core"."t~keys" ("call_no", number)
       select "call_no", greatest(0, (select max(number) from "core"."t~keys"), (select l.number from "core"."t~last" as l where l.map = 'keys')) + row_number() over (order by "call_no")
       from (select distinct "call_no" from (select * from pg_temp.changes where op$ = 'inserted') as keyed) as n
       where not exists (select from "core"."t~keys" as k where k."call_no" = n."call_no");
       insert into "core"."t~last" as l (map, number)
       select 'keys', given from (select max(number) as given from "core"."t~keys") as m where given is not null
       on conflict (map) do update set number = excluded.number where l.number < excluded.number;
       set local enable_hashjoin = off;
       set local enable_mergejoin = off;
       update "core"."t" as t set "berth_code" = c."berth_code", "tonnage" = c."tonnage"
       from (select * from pg_temp.changes where op$ = 'updated' order by row_id$) as c where t.ctid = c.row_id$;
       set local enable_hashjoin to default;
       set local enable_mergejoin to default;
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage")
       select keys.number as "id", c."call_no" as "call_no", c."berth_code" as "berth_code", c."tonnage" as "tonnage"
       from pg_temp.changes as c
       join "core"."t~keys" as keys on keys."call_no" = c."call_no"
       where c.op$ = 'inserted';
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage")
       select cast(0 as bigint), cast('' as text), cast(null as text), cast(null as numeric(12,2))
       where not exists (select from "core"."t" where "id" = 0);
       -- counts
       select count(*) filter (where op$ = 'inserted') as "inserted",
              count(*) filter (where op$ = 'updated') as "updated",
              count(*) filter (where op$ in ('deleted', 'missing')) as "deleted"
       from pg_temp.changes;
       -- inserted: select * from pg_temp.changes where op$ = 'inserted' limit 50;
       -- updated: select * from pg_temp.changes where op$ = 'updated' limit 50;
       -- deleted: select * from pg_temp.changes where op$ in ('deleted', 'missing') limit 50;
     -- rewritten
       -- stops: rows without call_no cannot be numbered [key_map_is_complete]: Filter them out in the query, or give them a value.
       select * from (select * from pg_temp.found_changes where op$ = 'inserted') as n where n."call_no" is null
       limit 100;
       insert into "core"."t~keys" ("call_no", number)
       select "call_no", greatest(0, (select max(number) from "core"."t~keys"), (select l.number from "core"."t~last" as l where l.map = 'keys')) + row_number() over (order by "call_no")
       from (select distinct "call_no" from (select * from pg_temp.found_changes where op$ = 'inserted') as keyed) as n
       where not exists (select from "core"."t~keys" as k where k."call_no" = n."call_no");
       insert into "core"."t~last" as l (map, number)
       select 'keys', given from (select max(number) as given from "core"."t~keys") as m where given is not null
       on conflict (map) do update set number = excluded.number where l.number < excluded.number;
       create table "core~next"."t" as
       select t."id",
              t."call_no",
              case when c.op$ = 'updated' then c."berth_code" else t."berth_code" end as "berth_code",
              case when c.op$ = 'updated' then c."tonnage" else t."tonnage" end as "tonnage"
       from "core"."t" as t left join pg_temp.found_changes as c on c.row_id$ = t.ctid
       union all
       select keys.number as "id", c."call_no" as "call_no", c."berth_code" as "berth_code", c."tonnage" as "tonnage"
       from pg_temp.found_changes as c
       join "core"."t~keys" as keys on keys."call_no" = c."call_no"
       where c.op$ = 'inserted';
       insert into "core~next"."t" ("id", "call_no", "berth_code", "tonnage")
       select cast(0 as bigint), cast('' as text), cast(null as text), cast(null as numeric(12,2))
       where not exists (select from "core~next"."t" where "id" = 0);
       -- counts
       select count(*) filter (where op$ = 'inserted') as "inserted",
              count(*) filter (where op$ = 'updated') as "updated",
              count(*) filter (where op$ in ('deleted', 'missing')) as "deleted"
       from pg_temp.found_changes;
       -- inserted: select * from pg_temp.found_changes where op$ = 'inserted' limit 50;
       -- updated: select * from pg_temp.found_changes where op$ = 'updated' limit 50;
       -- deleted: select * from pg_temp.found_changes where op$ in ('deleted', 'missing') limit 50;
     drop table if exists pg_temp.changes;
     drop view if exists pg_temp.found_changes;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('with a history, placeholders asked for', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, call_no text not null, berth_code text, tonnage numeric(12,2), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')) with (load = history, business_key = 'call_no', missing_rows = close)",
        query: 'select call_no, berth_code, tonnage from landing.call',
        files: {
          'core/visit.sql':
            "create table core.visit (call_no text not null, id bigint options (looked_up_by 'call_no', missing 'infer') references core.t (id)) with (load = merge, business_key = 'call_no');\nselect call_no from landing.call;",
        },
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     lock table "core"."t" in share row exclusive mode;
     create temp view query_rows as
     select cast(q."call_no" as text) as "call_no",
            cast(q."berth_code" as text) as "berth_code",
            cast(q."tonnage" as numeric(12,2)) as "tonnage"
     from (
     select call_no, berth_code, tonnage from "landing"."call"
     ) as q;
     set local parallel_tuple_cost to default;
     -- stops: the query’s rows cannot be loaded
     select q."call_no" from pg_temp.query_rows as q group by q."call_no" having count(*) > 1 or q."call_no" is null
     limit 100;
       -- stops: the query returns rows whose call_no is null [keys_are_known]: Filter them out in the query, or give them a value.
       select * from pg_temp.query_rows as q where q."call_no" is null
       limit 100;
       -- stops: the query returns more than one row for a call_no [one_row_a_key]: Decide in the query which row counts: distinct on, or a condition.
       select q."call_no", count(*) as rows from pg_temp.query_rows as q group by q."call_no" having count(*) > 1
       limit 100;
       -- shows
       select * from pg_temp.query_rows as q
       where (q."call_no") in (select q."call_no" from pg_temp.query_rows as q group by q."call_no" having count(*) > 1)
       order by q."call_no"
       limit 100;
     -- stops: the query returns no rows: Every row would count as missing (missing_rows = close). If that is intended, set empty = allow.
     select 'the query returned no row' as problem where not exists (select from pg_temp.query_rows) and exists (select from "core"."t")
     limit 100;
     set local parallel_tuple_cost = 0;
     create table if not exists "core"."t~keys" (
       "call_no" text not null,
       "valid_from" timestamptz not null,
       number bigint not null unique,
       primary key ("call_no", "valid_from")
     );
     create table if not exists "core"."t~last" (map text primary key, number bigint not null);
     create table if not exists "core"."t~inferred" (
       "call_no" text not null,
       primary key ("call_no")
     );
     lock table "core"."t~inferred" in share row exclusive mode;
     create temp table completed on commit drop as
     select q."call_no", min((select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))) as begins$
     from pg_temp.query_rows as q join "core"."t~inferred" as i on i."call_no" = q."call_no"
     where true
     group by q."call_no";
     delete from "core"."t" as t using pg_temp.completed as c where t."call_no" = c."call_no";
     update "core"."t~keys" as k set "valid_from" = c.begins$
     from pg_temp.completed as c where k."call_no" = c."call_no" and k."valid_from" = '-infinity';
     delete from "core"."t~inferred" as i using pg_temp.completed as c where i."call_no" = c."call_no";
     -- counts
     select count(*) filter (where true) as "completed"
     from pg_temp.completed;
     -- completed: select * from pg_temp.completed where true limit 50;
     drop table if exists pg_temp.completed;
     create temp table changes on commit drop as
     select * from (
       select coalesce(q."call_no", t."call_no") as "call_no", q."berth_code", q."tonnage", t.row_id$, t."valid_from" as old_from$, case
         when q."call_no" is null then 'gone'
         when t.row_id$ is null then 'new'
         when (t."berth_code", t."tonnage") is distinct from (q."berth_code", q."tonnage") then 'changed'
         when false then 'overwritten'
       end as op$
       from pg_temp.query_rows as q
       full join (select * from (select *, ctid as row_id$ from "core"."t" as m where m."id" <> 0 and not exists (select from "core"."t~inferred" as i where i."call_no" = m."call_no")) as k where k."valid_to" is null) as t on q."call_no" = t."call_no"
     ) as found
     where op$ is not null;
     analyze pg_temp.changes ("call_no", "row_id$", "op$", "old_from$");
     -- stops: the query’s rows cannot be loaded
     select 'versions' as problem from (
       select count(*) filter (where c.old_from$ > (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))) as later, count(*) filter (where c.op$ in ('changed', 'overwritten')) as versions, (select count(*) from (select from pg_temp.changes as c where c.op$ in ('changed', 'overwritten') group by c."call_no") as keyed) as keys from pg_temp.changes as c
     ) as counted where later > 0 or keys < versions
     union all
     select 'overlap' where exists (select t."call_no"
     from "core"."t" as t join pg_temp.changes as c on t."call_no" = c."call_no"
     where t."valid_to" is not null and (t."valid_to" > coalesce(c.old_from$, (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))) or t."valid_to" <= t."valid_from"))
     limit 100;
       -- stops: the table holds versions that begin after this load’s time: Load it at a later time, or start it over.
       select * from pg_temp.changes where old_from$ > (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))
       limit 100;
       -- stops: a key has two open versions [versions_do_not_overlap]: The table was changed by something other than its loads: start it over, or fix the rows.
       select c."call_no", count(*) as open_versions from pg_temp.changes as c where c.op$ in ('changed', 'overwritten') group by c."call_no" having count(*) > 1
       limit 100;
       -- stops: two versions of a key overlap [versions_do_not_overlap]: The table was changed by something other than its loads: start it over, or fix the rows.
       select t.*
       from "core"."t" as t join pg_temp.changes as c on t."call_no" = c."call_no"
       where t."valid_to" is not null and (t."valid_to" > coalesce(c.old_from$, (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))) or t."valid_to" <= t."valid_from")
       limit 100;
     -- stops: rows without call_no, valid_from cannot be numbered [key_map_is_complete]: Filter them out in the query, or give them a value.
     select * from (select "call_no", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from" from pg_temp.changes where op$ in ('new', 'changed')) as n where n."call_no" is null or n."valid_from" is null
     limit 100;
     insert into "core"."t~keys" ("call_no", "valid_from", number)
     select "call_no", "valid_from", greatest(0, (select max(number) from "core"."t~keys"), (select l.number from "core"."t~last" as l where l.map = 'keys')) + row_number() over (order by "call_no", "valid_from")
     from (select distinct "call_no", "valid_from" from (select "call_no", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from" from pg_temp.changes where op$ in ('new', 'changed')) as keyed) as n
     where not exists (select from "core"."t~keys" as k where k."call_no" = n."call_no" and k."valid_from" = n."valid_from");
     insert into "core"."t~last" as l (map, number)
     select 'keys', given from (select max(number) as given from "core"."t~keys") as m where given is not null
     on conflict (map) do update set number = excluded.number where l.number < excluded.number;
     -- chooses a shape
     select of_rows >= 10000 and changed > 0.3 * of_rows as rewrite,
       format('%s: %s%s of about %s rows change (above 30 %% all rows are rewritten)', case when of_rows >= 10000 and changed > 0.3 * of_rows then 'all rows rewritten' else 'changed in place' end, about, changed, of_rows) as note
     from (select count(*) as changed, '' as about from pg_temp.changes) as n, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c;
     -- in place
       set local enable_hashjoin = off;
       set local enable_mergejoin = off;
       delete from "core"."t" as t using (select * from pg_temp.changes where op$ in ('changed', 'gone') and old_from$ = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) order by row_id$) as c where t.ctid = c.row_id$;
       update "core"."t" as t set "valid_to" = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)), "is_current" = false
       from (select * from pg_temp.changes where op$ in ('changed', 'gone') and old_from$ < (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) order by row_id$) as c where t.ctid = c.row_id$;
       set local enable_hashjoin to default;
       set local enable_mergejoin to default;
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select keys.number as "id", c."call_no" as "call_no", c."berth_code" as "berth_code", c."tonnage" as "tonnage", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from", cast(null as timestamptz) as "valid_to", true as "is_current"
       from pg_temp.changes as c
       join "core"."t~keys" as keys on keys."call_no" = c."call_no" and keys."valid_from" = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))
       where c.op$ in ('new', 'changed');
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select cast(0 as bigint), cast('' as text), cast(null as text), cast(null as numeric(12,2)), cast('-infinity' as timestamptz), cast(null as timestamptz), cast(true as boolean)
       where not exists (select from "core"."t" where "id" = 0);
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select keys.number, i."call_no", cast(null as text), cast(null as numeric(12,2)), cast('-infinity' as timestamptz), cast(null as timestamptz), cast(true as boolean)
       from "core"."t~inferred" as i
       join "core"."t~keys" as keys on keys."call_no" = i."call_no" and keys."valid_from" = '-infinity'
       where not exists (select from "core"."t" as t where t."call_no" = i."call_no");
     -- rewritten
       create table "core~next"."t" as
       select t."id",
              t."call_no",
              t."berth_code",
              t."tonnage",
              t."valid_from",
              case when c.row_id$ is not null then (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) else t."valid_to" end as "valid_to",
              case when c.row_id$ is not null then false else t."is_current" end as "is_current"
       from "core"."t" as t left join pg_temp.changes as c on c.row_id$ = t.ctid
       where (c.row_id$ is not null and c.old_from$ = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))) is not true
       union all
       select keys.number as "id", c."call_no" as "call_no", c."berth_code" as "berth_code", c."tonnage" as "tonnage", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from", cast(null as timestamptz) as "valid_to", true as "is_current"
       from pg_temp.changes as c
       join "core"."t~keys" as keys on keys."call_no" = c."call_no" and keys."valid_from" = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))
       where c.op$ in ('new', 'changed');
       insert into "core~next"."t" ("id", "call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select cast(0 as bigint), cast('' as text), cast(null as text), cast(null as numeric(12,2)), cast('-infinity' as timestamptz), cast(null as timestamptz), cast(true as boolean)
       where not exists (select from "core~next"."t" where "id" = 0);
       insert into "core~next"."t" ("id", "call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select keys.number, i."call_no", cast(null as text), cast(null as numeric(12,2)), cast('-infinity' as timestamptz), cast(null as timestamptz), cast(true as boolean)
       from "core"."t~inferred" as i
       join "core"."t~keys" as keys on keys."call_no" = i."call_no" and keys."valid_from" = '-infinity'
       where not exists (select from "core~next"."t" as t where t."call_no" = i."call_no");
     -- counts
     select count(*) filter (where op$ in ('new', 'changed')) as "new versions",
            count(*) filter (where op$ in ('changed', 'gone')) as "closed",
            count(*) filter (where op$ = 'overwritten') as "overwritten",
            (select count(*) from pg_temp.query_rows) - count(*) filter (where op$ <> 'gone') as "unchanged"
     from pg_temp.changes;
     -- new versions: select * from pg_temp.changes where op$ in ('new', 'changed') limit 50;
     -- closed: select * from pg_temp.changes where op$ in ('changed', 'gone') limit 50;
     -- overwritten: select * from pg_temp.changes where op$ = 'overwritten' limit 50;
     drop table if exists pg_temp.changes;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('rebuilt, placeholders asked for', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, call_no text not null, berth_code text, tonnage numeric(12,2)) with (load = rebuild, business_key = 'call_no')",
        query: 'select call_no, berth_code, tonnage from landing.call',
        files: {
          'core/visit.sql':
            "create table core.visit (call_no text not null, id bigint options (looked_up_by 'call_no', missing 'infer') references core.t (id)) with (load = merge, business_key = 'call_no');\nselect call_no from landing.call;",
        },
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     create temp view query_rows as
     select cast(q."call_no" as text) as "call_no",
            cast(q."berth_code" as text) as "berth_code",
            cast(q."tonnage" as numeric(12,2)) as "tonnage"
     from (
     select call_no, berth_code, tonnage from "landing"."call"
     ) as q;
     create table if not exists "core"."t~keys" (
       "call_no" text not null,
       number bigint not null unique,
       primary key ("call_no")
     );
     create table if not exists "core"."t~last" (map text primary key, number bigint not null);
     create table "core"."t" (
       "id" bigint,
       "call_no" text,
       "berth_code" text,
       "tonnage" numeric(12,2)
     );
     create table if not exists "core"."t~inferred" (
       "call_no" text not null,
       primary key ("call_no")
     );
     lock table "core"."t~inferred" in share row exclusive mode;
     create temp table completed on commit drop as
     select q."call_no"
     from pg_temp.query_rows as q join "core"."t~inferred" as i on i."call_no" = q."call_no"
     where true
     group by q."call_no";
     delete from "core"."t" as t using pg_temp.completed as c where t."call_no" = c."call_no";
     delete from "core"."t~inferred" as i using pg_temp.completed as c where i."call_no" = c."call_no";
     -- counts
     select count(*) filter (where true) as "completed"
     from pg_temp.completed;
     -- completed: select * from pg_temp.completed where true limit 50;
     drop table if exists pg_temp.completed;
     -- stops: rows without call_no cannot be numbered [key_map_is_complete]: Filter them out in the query, or give them a value.
     select * from pg_temp.query_rows as n where n."call_no" is null
     limit 100;
     insert into "core"."t~keys" ("call_no", number)
     select "call_no", greatest(0, (select max(number) from "core"."t~keys"), (select l.number from "core"."t~last" as l where l.map = 'keys')) + row_number() over (order by "call_no")
     from (select distinct "call_no" from pg_temp.query_rows as keyed) as n
     where not exists (select from "core"."t~keys" as k where k."call_no" = n."call_no");
     insert into "core"."t~last" as l (map, number)
     select 'keys', given from (select max(number) as given from "core"."t~keys") as m where given is not null
     on conflict (map) do update set number = excluded.number where l.number < excluded.number;
     insert into "core"."t" ("id", "call_no", "berth_code", "tonnage")
     select keys.number as "id", q."call_no" as "call_no", q."berth_code" as "berth_code", q."tonnage" as "tonnage"
     from pg_temp.query_rows as q
     join "core"."t~keys" as keys on keys."call_no" = q."call_no";
     -- counts
     select count(*) filter (where true) as "inserted"
     from "core"."t";
     -- inserted: select * from "core"."t" where true limit 50;
     insert into "core"."t" ("id", "call_no", "berth_code", "tonnage")
     select cast(0 as bigint), cast('' as text), cast(null as text), cast(null as numeric(12,2))
     where not exists (select from "core"."t" where "id" = 0);
     insert into "core"."t" ("id", "call_no", "berth_code", "tonnage")
     select keys.number, i."call_no", cast(null as text), cast(null as numeric(12,2))
     from "core"."t~inferred" as i
     join "core"."t~keys" as keys on keys."call_no" = i."call_no"
     where not exists (select from "core"."t" as t where t."call_no" = i."call_no");
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('from events', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, call_no text not null, berth_code text, tonnage numeric(12,2), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')) with (load = history, business_key = 'call_no', effective_from = 'arrived_at')",
        query: 'select call_no, berth_code, tonnage, arrived_at from landing.call',
        files: {
          'core/visit.sql':
            "create table core.visit (call_no text not null, id bigint options (looked_up_by 'call_no') references core.t (id)) with (load = merge, business_key = 'call_no');\nselect call_no from landing.call;",
        },
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     lock table "core"."t" in share row exclusive mode;
     create temp view query_rows as
     select cast(q."call_no" as text) as "call_no",
            cast(q."berth_code" as text) as "berth_code",
            cast(q."tonnage" as numeric(12,2)) as "tonnage",
            cast(q."arrived_at" as timestamptz) as "arrived_at"
     from (
     select call_no, berth_code, tonnage, arrived_at from "landing"."call"
     ) as q;
     set local parallel_tuple_cost to default;
     -- stops: the query returns rows whose call_no, arrived_at is null [keys_are_known]: Filter them out in the query, or give them a value.
     select * from pg_temp.query_rows as q where q."call_no" is null or q."arrived_at" is null
     limit 100;
     set local parallel_tuple_cost = 0;
     create table if not exists "core"."t~keys" (
       "call_no" text not null,
       "valid_from" timestamptz not null,
       number bigint not null unique,
       primary key ("call_no", "valid_from")
     );
     create table if not exists "core"."t~last" (map text primary key, number bigint not null);
     create table if not exists "core"."t~events" as select "call_no", "berth_code", "tonnage", "arrived_at" from pg_temp.query_rows with no data;
     create index if not exists "t~events~by_key" on "core"."t~events" ("call_no", "arrived_at");
     create temp table changes on commit drop as
     select distinct q."call_no", q."berth_code", q."tonnage", q."arrived_at" from pg_temp.query_rows as q
     where not exists (select from "core"."t~events" as e where e."call_no" = q."call_no" and e."arrived_at" = q."arrived_at" and not ((e."berth_code", e."tonnage") is distinct from (q."berth_code", q."tonnage")));
     analyze pg_temp.changes ("call_no", "arrived_at");
     insert into "core"."t~events" ("call_no", "berth_code", "tonnage", "arrived_at") select "call_no", "berth_code", "tonnage", "arrived_at" from pg_temp.changes;
     create temp table versions on commit drop as
     with touched as (
       select * from "core"."t~events" as e
       where (e."call_no") in (select "call_no" from pg_temp.changes)
     ), marked as (
       select *, row_number() over w = 1 or "berth_code" is distinct from lag("berth_code") over w or "tonnage" is distinct from lag("tonnage") over w or "arrived_at" = lag("arrived_at") over w as starts$
       from touched
       window w as (partition by "call_no" order by "arrived_at")
     ), held as (
       select starts$, "arrived_at" as version_from$, "call_no",
         "berth_code",
         "tonnage"
       from marked
     )
     select "call_no", "berth_code", "tonnage",
       version_from$ as "valid_from",
       lead(version_from$) over (partition by "call_no" order by version_from$) as "valid_to"
     from held
     where starts$;
     analyze pg_temp.versions ("call_no", "valid_from");
     -- stops: the query’s rows cannot be loaded
     select * from pg_temp.versions as v where v."valid_to" <= v."valid_from"
     limit 100;
       -- stops: two events of a key disagree about one instant [one_event_an_instant]: Name a column that orders them: order_within = ‘column’. Where the query tells old events in a new way, start the table over.
       select * from (
         select r.*, count(*) over (partition by r."call_no", r."arrived_at") as tied$
         from (select e.*, 1 as place$ from "core"."t~events" as e where (e."call_no", e."arrived_at") in (select "call_no", "arrived_at" from pg_temp.changes)) as r where place$ = 1
       ) as first_of
       where tied$ > 1
       order by "call_no", "arrived_at"
       limit 100;
       -- stops: two versions of a key overlap [versions_do_not_overlap]: Check its stored events.
       select * from pg_temp.versions as v where v."valid_to" <= v."valid_from"
       limit 100;
     update "core"."t~keys" as k set "valid_from" = m.n_from$
     from (select distinct on (o_from$, "call_no") "call_no", o_from$, n_from$ from (
         select distinct on (n."call_no", n."valid_from") n."call_no", o."valid_from" as o_from$, n."valid_from" as n_from$
         from pg_temp.versions as n
         join "core"."t" as o on o."call_no" = n."call_no" and not ((o."berth_code", o."tonnage") is distinct from (n."berth_code", n."tonnage"))
           and o."valid_from" < coalesce(n."valid_to", 'infinity') and n."valid_from" < coalesce(o."valid_to", 'infinity')
         where not exists (select from "core"."t" as s where s."call_no" = n."call_no" and s."valid_from" = n."valid_from")
           and not exists (select from pg_temp.versions as s where s."call_no" = o."call_no" and s."valid_from" = o."valid_from")
           and not exists (select from "core"."t~keys" as k where k."call_no" = n."call_no" and k."valid_from" = n."valid_from")
         order by n."call_no", n."valid_from", o."valid_from"
       ) as pairs
       order by o_from$, "call_no", n_from$) as m where k."call_no" = m."call_no" and k."valid_from" = m.o_from$;
     -- stops: rows without call_no, valid_from cannot be numbered [key_map_is_complete]: Filter them out in the query, or give them a value.
     select * from pg_temp.versions as n where n."call_no" is null or n."valid_from" is null
     limit 100;
     insert into "core"."t~keys" ("call_no", "valid_from", number)
     select "call_no", "valid_from", greatest(0, (select max(number) from "core"."t~keys"), (select l.number from "core"."t~last" as l where l.map = 'keys')) + row_number() over (order by "call_no", "valid_from")
     from (select distinct "call_no", "valid_from" from pg_temp.versions as keyed) as n
     where not exists (select from "core"."t~keys" as k where k."call_no" = n."call_no" and k."valid_from" = n."valid_from");
     insert into "core"."t~last" as l (map, number)
     select 'keys', given from (select max(number) as given from "core"."t~keys") as m where given is not null
     on conflict (map) do update set number = excluded.number where l.number < excluded.number;
     -- chooses a shape
     select of_rows >= 10000 and changed > 0.3 * of_rows as rewrite,
       format('%s: %s%s of about %s rows change (above 30 %% all rows are rewritten)', case when of_rows >= 10000 and changed > 0.3 * of_rows then 'all rows rewritten' else 'changed in place' end, about, changed, of_rows) as note
     from (select round(of_rows * coalesce(h.changed::numeric / nullif(s.rows, 0), 0))::bigint as changed, 'about ' as about
       from (select count(op$) as changed from (select 'touched' as op$ from (select *, ctid as row_id$ from "core"."t" tablesample system ((select case when of_rows < 10000 then 1 else least(100, 100.0 * 10000 / of_rows) end from (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as t)) repeatable (1)) as t join (select distinct c."call_no" from pg_temp.changes as c where (c."call_no") in (select "call_no" from (select *, ctid as row_id$ from "core"."t" tablesample system ((select case when of_rows < 10000 then 1 else least(100, 100.0 * 10000 / of_rows) end from (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as t)) repeatable (1)) as s)) as c on c."call_no" = t."call_no") as held) as h, (select count(*) as rows from (select *, ctid as row_id$ from "core"."t" tablesample system ((select case when of_rows < 10000 then 1 else least(100, 100.0 * 10000 / of_rows) end from (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as t)) repeatable (1)) as sample) as s, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c) as n, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c;
     -- in place
       delete from "core"."t" as t where (t."call_no") in (select "call_no" from pg_temp.changes);
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select keys.number as "id", n."call_no" as "call_no", n."berth_code" as "berth_code", n."tonnage" as "tonnage", n."valid_from" as "valid_from", n."valid_to" as "valid_to", n."valid_to" is null as "is_current"
       from pg_temp.versions as n
       join "core"."t~keys" as keys on keys."call_no" = n."call_no" and keys."valid_from" = n."valid_from";
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select cast(0 as bigint), cast('' as text), cast(null as text), cast(null as numeric(12,2)), cast('-infinity' as timestamptz), cast(null as timestamptz), cast(true as boolean)
       where not exists (select from "core"."t" where "id" = 0);
     -- rewritten
       create table "core~next"."t" as
       select keys.number as "id", n."call_no" as "call_no", n."berth_code" as "berth_code", n."tonnage" as "tonnage", n."valid_from" as "valid_from", n."valid_to" as "valid_to", n."valid_to" is null as "is_current"
       from pg_temp.versions as n
       join "core"."t~keys" as keys on keys."call_no" = n."call_no" and keys."valid_from" = n."valid_from"
       union all
       select t."id", t."call_no", t."berth_code", t."tonnage", t."valid_from", t."valid_to", t."is_current"
       from "core"."t" as t where not exists (select from pg_temp.changes as c where c."call_no" = t."call_no");
       insert into "core~next"."t" ("id", "call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select cast(0 as bigint), cast('' as text), cast(null as text), cast(null as numeric(12,2)), cast('-infinity' as timestamptz), cast(null as timestamptz), cast(true as boolean)
       where not exists (select from "core~next"."t" where "id" = 0);
     -- counts
     select count(*) filter (where true) as "new events",
            (select count(*) from pg_temp.query_rows) - count(*) filter (where true) as "unchanged"
     from pg_temp.changes;
     -- new events: select * from pg_temp.changes where true limit 50;
     drop table if exists pg_temp.changes, pg_temp.versions;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
});
