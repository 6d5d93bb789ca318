import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../../sql/parser.js';
import { loadText } from '../testing.js';

beforeAll(loadParser);

describe('A history load closes versions and opens new ones.', () => {
  test('by state, missing members closed, in place', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, call_no text not null, berth_code text, tonnage numeric(12,2), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')) with (load = history, business_key = 'call_no', missing_rows = close, shape = in_place)",
        query: 'select call_no, berth_code, tonnage from landing.call',
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
     create temp table changes on commit drop as
     select * from (
       select coalesce(q."call_no", t."call_no") as "call_no", q."berth_code", q."tonnage", t.row_id$, t."valid_from" as old_from$, case
         when q."call_no" is null then 'gone'
         when t.row_id$ is null then 'new'
         when (t."berth_code", t."tonnage") is distinct from (q."berth_code", q."tonnage") then 'changed'
         when false then 'overwritten'
       end as op$
       from pg_temp.query_rows as q
       full join (select * from (select *, ctid as row_id$ from "core"."t" as m) as k where k."valid_to" is null) as t on q."call_no" = t."call_no"
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
  test('rewritten, with columns that are overwritten, kept and remembered', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, call_no text not null, berth_code text options (on_change 'overwrite'), tonnage numeric(12,2) options (on_change 'keep'), earlier text options (on_change 'previous', previous_of 'berth_code'), nth integer options (role 'version number'), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')) with (load = history, business_key = 'call_no', shape = rewrite)",
        query: 'select call_no, berth_code, tonnage from landing.call',
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
       "valid_from" timestamptz not null,
       number bigint not null unique,
       primary key ("call_no", "valid_from")
     );
     create table if not exists "core"."t~last" (map text primary key, number bigint not null);
     create temp table changes on commit drop as
     select * from (
       select q."call_no", q."berth_code", q."tonnage", t.row_id$, t."valid_from" as old_from$, t."tonnage" as kept_0$, case
         when q."call_no" is null then null
         when t.row_id$ is null then 'new'
         when false then 'changed'
         when (t."berth_code") is distinct from (q."berth_code") then 'overwritten'
       end as op$
       from pg_temp.query_rows as q
       left join (select * from (select *, ctid as row_id$ from "core"."t" as m) as k where k."valid_to" is null) as t on q."call_no" = t."call_no"
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
     select changed > 0 as rewrite,
       format('%s: %s%s of about %s rows change (shape = rewrite)', case when changed > 0 then 'all rows rewritten' else 'changed in place' end, about, changed, of_rows) as note
     from (select count(*) as changed, '' as about from pg_temp.changes) as n, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c;
     -- in place
       set local enable_hashjoin = off;
       set local enable_mergejoin = off;
       delete from "core"."t" as t using (select * from pg_temp.changes where op$ in ('changed', 'gone') and old_from$ = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) order by row_id$) as c where t.ctid = c.row_id$;
       update "core"."t" as t set "valid_to" = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)), "is_current" = false
       from (select * from pg_temp.changes where op$ in ('changed', 'gone') and old_from$ < (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) order by row_id$) as c where t.ctid = c.row_id$;
       set local enable_hashjoin to default;
       set local enable_mergejoin to default;
       update "core"."t" as t set "berth_code" = c."berth_code", "earlier" = case when (t."berth_code") is distinct from (c."berth_code") then t."berth_code" else t."earlier" end
       from pg_temp.changes as c where t."call_no" = c."call_no" and c.op$ in ('new', 'changed', 'overwritten') and (t."berth_code") is distinct from (c."berth_code");
       insert into "core"."t" ("id", "call_no", "berth_code", "tonnage", "earlier", "nth", "valid_from", "valid_to", "is_current")
       select keys.number as "id", c."call_no" as "call_no", c."berth_code" as "berth_code", case when prior.row_id$ is not null then prior."tonnage" when c.row_id$ is not null then c.kept_0$ else c."tonnage" end as "tonnage", case when prior.row_id$ is null then null when (prior."berth_code") is distinct from (c."berth_code") then prior."berth_code" else prior."earlier" end as "earlier", coalesce(prior."nth", 0) + 1 as "nth", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from", cast(null as timestamptz) as "valid_to", true as "is_current"
       from pg_temp.changes as c
       left join (select distinct on (t."call_no") t.*
         from (select *, ctid as row_id$ from "core"."t" as m) as t join pg_temp.changes as c on t."call_no" = c."call_no" and c.op$ in ('new', 'changed')
         order by t."call_no", t."valid_from" desc) as prior on prior."call_no" = c."call_no"
       join "core"."t~keys" as keys on keys."call_no" = c."call_no" and keys."valid_from" = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))
       where c.op$ in ('new', 'changed');
     -- rewritten
       create table "core~next"."t" as
       select t."id",
              t."call_no",
              case when c.op$ in ('new', 'changed', 'overwritten') and (t."berth_code") is distinct from (c."berth_code") then c."berth_code" else t."berth_code" end as "berth_code",
              t."tonnage",
              case when c.op$ in ('new', 'changed', 'overwritten') and (t."berth_code") is distinct from (c."berth_code") and (t."berth_code") is distinct from (c."berth_code") then t."berth_code" else t."earlier" end as "earlier",
              t."nth",
              t."valid_from",
              case when c.row_id$ = t.ctid and c.op$ in ('changed', 'gone') then (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) else t."valid_to" end as "valid_to",
              case when c.row_id$ = t.ctid and c.op$ in ('changed', 'gone') then false else t."is_current" end as "is_current"
       from "core"."t" as t left join pg_temp.changes as c on t."call_no" = c."call_no"
       where (c.row_id$ = t.ctid and c.op$ in ('changed', 'gone') and c.old_from$ = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))) is not true
       union all
       select keys.number as "id", c."call_no" as "call_no", c."berth_code" as "berth_code", case when prior.row_id$ is not null then prior."tonnage" when c.row_id$ is not null then c.kept_0$ else c."tonnage" end as "tonnage", case when prior.row_id$ is null then null when (prior."berth_code") is distinct from (c."berth_code") then prior."berth_code" else prior."earlier" end as "earlier", coalesce(prior."nth", 0) + 1 as "nth", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from", cast(null as timestamptz) as "valid_to", true as "is_current"
       from pg_temp.changes as c
       left join (select distinct on (t."call_no") t.*
         from (select *, ctid as row_id$ from "core"."t" as m) as t join pg_temp.changes as c on t."call_no" = c."call_no" and c.op$ in ('new', 'changed')
         where (c.row_id$ = t.row_id$ and c.op$ in ('changed', 'gone') and c.old_from$ = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))) is not true
         order by t."call_no", t."valid_from" desc) as prior on prior."call_no" = c."call_no"
       join "core"."t~keys" as keys on keys."call_no" = c."call_no" and keys."valid_from" = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))
       where c.op$ in ('new', 'changed');
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
  test('numbered, with a durable key', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, thing bigint options (role 'durable key') not null, call_no text not null, berth_code text, tonnage numeric(12,2), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')) with (load = history, business_key = 'call_no', missing_rows = keep)",
        query: 'select call_no, berth_code, tonnage from landing.call',
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
       "valid_from" timestamptz not null,
       number bigint not null unique,
       primary key ("call_no", "valid_from")
     );
     create table if not exists "core"."t~last" (map text primary key, number bigint not null);
     create table if not exists "core"."t~durable" (
       "call_no" text not null,
       number bigint not null unique,
       primary key ("call_no")
     );
     create table if not exists "core"."t~last" (map text primary key, number bigint not null);
     create temp table changes on commit drop as
     select * from (
       select q."call_no", q."berth_code", q."tonnage", t.row_id$, t."valid_from" as old_from$, case
         when q."call_no" is null then null
         when t.row_id$ is null then 'new'
         when (t."berth_code", t."tonnage") is distinct from (q."berth_code", q."tonnage") then 'changed'
         when false then 'overwritten'
       end as op$
       from pg_temp.query_rows as q
       left join (select * from (select *, ctid as row_id$ from "core"."t" as m) as k where k."valid_to" is null) as t on q."call_no" = t."call_no"
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
     -- stops: rows without call_no cannot be numbered [key_map_is_complete]: Filter them out in the query, or give them a value.
     select * from (select "call_no", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from" from pg_temp.changes where op$ in ('new', 'changed')) as n where n."call_no" is null
     limit 100;
     insert into "core"."t~durable" ("call_no", number)
     select "call_no", greatest(0, (select max(number) from "core"."t~durable"), (select l.number from "core"."t~last" as l where l.map = 'durable')) + row_number() over (order by "call_no")
     from (select distinct "call_no" from (select "call_no", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from" from pg_temp.changes where op$ in ('new', 'changed')) as keyed) as n
     where not exists (select from "core"."t~durable" as k where k."call_no" = n."call_no");
     insert into "core"."t~last" as l (map, number)
     select 'durable', given from (select max(number) as given from "core"."t~durable") as m where given is not null
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
       insert into "core"."t" ("id", "thing", "call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select keys.number as "id", durable.number as "thing", c."call_no" as "call_no", c."berth_code" as "berth_code", c."tonnage" as "tonnage", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from", cast(null as timestamptz) as "valid_to", true as "is_current"
       from pg_temp.changes as c
       join "core"."t~keys" as keys on keys."call_no" = c."call_no" and keys."valid_from" = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))
       join "core"."t~durable" as durable on durable."call_no" = c."call_no"
       where c.op$ in ('new', 'changed');
     -- rewritten
       create table "core~next"."t" as
       select t."id",
              t."thing",
              t."call_no",
              t."berth_code",
              t."tonnage",
              t."valid_from",
              case when c.row_id$ is not null then (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) else t."valid_to" end as "valid_to",
              case when c.row_id$ is not null then false else t."is_current" end as "is_current"
       from "core"."t" as t left join pg_temp.changes as c on c.row_id$ = t.ctid
       where (c.row_id$ is not null and c.old_from$ = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))) is not true
       union all
       select keys.number as "id", durable.number as "thing", c."call_no" as "call_no", c."berth_code" as "berth_code", c."tonnage" as "tonnage", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from", cast(null as timestamptz) as "valid_to", true as "is_current"
       from pg_temp.changes as c
       join "core"."t~keys" as keys on keys."call_no" = c."call_no" and keys."valid_from" = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))
       join "core"."t~durable" as durable on durable."call_no" = c."call_no"
       where c.op$ in ('new', 'changed');
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
  test('open versions corrected', () =>
    expect(
      loadText({
        contract:
          "call_no text not null, berth_code text, tonnage numeric(12,2), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')) with (load = history, business_key = 'call_no')",
        query: 'select call_no, berth_code, tonnage from landing.call',
        corrects: true,
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
     create temp table changes on commit drop as
     select * from (
       select q."call_no", q."berth_code", q."tonnage", t.row_id$, t."valid_from" as old_from$, case
         when q."call_no" is null then null
         when t.row_id$ is null then 'new'
         when false then 'changed'
         when (t."berth_code", t."tonnage") is distinct from (q."berth_code", q."tonnage") then 'overwritten'
       end as op$
       from pg_temp.query_rows as q
       left join (select * from (select *, ctid as row_id$ from "core"."t" as m) as k where k."valid_to" is null) as t on q."call_no" = t."call_no"
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
       update "core"."t" as t set "berth_code" = c."berth_code", "tonnage" = c."tonnage"
       from pg_temp.changes as c where t.ctid = c.row_id$ and c.op$ = 'overwritten';
       insert into "core"."t" ("call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select c."call_no" as "call_no", c."berth_code" as "berth_code", c."tonnage" as "tonnage", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from", cast(null as timestamptz) as "valid_to", true as "is_current"
       from pg_temp.changes as c
       where c.op$ in ('new', 'changed');
     -- rewritten
       create table "core~next"."t" as
       select t."call_no",
              case when c.op$ = 'overwritten' then c."berth_code" else t."berth_code" end as "berth_code",
              case when c.op$ = 'overwritten' then c."tonnage" else t."tonnage" end as "tonnage",
              t."valid_from",
              case when c.row_id$ is not null and c.op$ in ('changed', 'gone') then (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) else t."valid_to" end as "valid_to",
              case when c.row_id$ is not null and c.op$ in ('changed', 'gone') then false else t."is_current" end as "is_current"
       from "core"."t" as t left join pg_temp.changes as c on c.row_id$ = t.ctid
       where (c.row_id$ is not null and c.op$ in ('changed', 'gone') and c.old_from$ = (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz))) is not true
       union all
       select c."call_no" as "call_no", c."berth_code" as "berth_code", c."tonnage" as "tonnage", (select cast(cast(current_setting('load.time') as timestamptz) as timestamptz)) as "valid_from", cast(null as timestamptz) as "valid_to", true as "is_current"
       from pg_temp.changes as c
       where c.op$ in ('new', 'changed');
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
});
