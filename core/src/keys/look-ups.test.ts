import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { loadText } from '../load/testing.js';

beforeAll(loadParser);

describe('A fact finds the keys of its dimensions.', () => {
  test('of a dimension without versions, unknown where there is none', () =>
    expect(
      loadText({
        contract:
          "call_no text not null, berth_key bigint options (looked_up_by 'berth_code') references core.dim_berth (berth_key), tonnage numeric(12,2)) with (load = rebuild)",
        query: 'select call_no, berth_code, tonnage from landing.call',
        files: {
          'core/dim_berth.sql':
            "create table core.dim_berth (berth_key bigint options (role 'surrogate key') primary key, berth_code text not null) with (load = merge, business_key = 'berth_code');\nselect berth_code from landing.berth;",
        },
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     create temp view raw_rows as
     select cast(q."call_no" as text) as "call_no",
            cast(q."tonnage" as numeric(12,2)) as "tonnage",
            q."berth_code"
     from (
     select call_no, berth_code, tonnage from "landing"."call"
     ) as q;
     create temp view query_rows as
     select q."call_no",
            q."tonnage",
            q."berth_code",
            cast(coalesce(d0."berth_key", 0) as bigint) as "berth_key"
     from pg_temp.raw_rows as q
     left join "core"."dim_berth" as d0 on d0."berth_code" = q."berth_code" and d0."berth_key" <> 0;
     create table "core"."t" as
     select q."call_no" as "call_no", q."berth_key" as "berth_key", q."tonnage" as "tonnage"
     from pg_temp.query_rows as q;
     -- counts
     select count(*) filter (where true) as "inserted"
     from "core"."t";
     -- inserted: select * from "core"."t" where true limit 50;
     -- stops: looking up keys multiplied rows [look_ups_keep_rows]: A dimension holds overlapping versions of a key: look at its checks.
     select * from (select (select count(*) from pg_temp.raw_rows) as rows_of_the_query, (select count(*) from "core"."t") as rows_with_keys offset 0) as counted where rows_of_the_query <> rows_with_keys
     limit 100;
     -- counts
     select count(*) filter (where "berth_key" = 0) as "berth_key unknown"
     from "core"."t";
     -- berth_key unknown: select * from "core"."t" where "berth_key" = 0 limit 50;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('rows without a member stop the load', () =>
    expect(
      loadText({
        contract:
          "call_no text not null, berth_key bigint options (looked_up_by 'berth_code', missing 'stop') references core.dim_berth (berth_key), tonnage numeric(12,2)) with (load = append, watermark = 'tonnage')",
        query: 'select call_no, berth_code, coalesce(tonnage, 0) as tonnage from landing.call',
        files: {
          'core/dim_berth.sql':
            "create table core.dim_berth (berth_key bigint options (role 'surrogate key') primary key, berth_code text not null) with (load = merge, business_key = 'berth_code');\nselect berth_code from landing.berth;",
        },
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     drop table if exists pg_temp.query_rows, pg_temp.raw_rows;
     lock table "core"."t" in share row exclusive mode;
     -- stops: the query’s rows cannot be loaded
     select * from (
     select call_no, berth_code, coalesce(tonnage, 0) as tonnage from "landing"."call"
     ) as q where q."tonnage" is null or cast(q."tonnage" as numeric(12,2)) >= 'infinity'
     limit 100;
       -- stops: rows without a watermark (tonnage): A row with a null watermark would be added at every load: filter it out, or give it a value.
       select * from (
       select call_no, berth_code, coalesce(tonnage, 0) as tonnage from "landing"."call"
       ) as q where q."tonnage" is null
       limit 100;
       -- stops: rows whose watermark (tonnage) is infinite or not a number: No later row would ever pass it: filter it out, or give it a finite value.
       select * from (
       select call_no, berth_code, coalesce(tonnage, 0) as tonnage from "landing"."call"
       ) as q where cast(q."tonnage" as numeric(12,2)) >= 'infinity'
       limit 100;
     -- where it holds
     select not exists (select from "core"."t" where "tonnage" is not null) as holds;
       create temp table raw_rows on commit drop as
       select cast(q."call_no" as text) as "call_no",
              cast(q."tonnage" as numeric(12,2)) as "tonnage",
              q."berth_code"
       from (
       select call_no, berth_code, coalesce(tonnage, 0) as tonnage from "landing"."call"
       ) as q;
     -- otherwise
       select set_config('load.bound', (select (max("tonnage") filter (where not "tonnage" >= 'infinity'))::text from "core"."t"), true);
       -- explains
       explain (format json) select cast(q."call_no" as text) as "call_no",
              cast(q."tonnage" as numeric(12,2)) as "tonnage",
              q."berth_code"
       from (
       select call_no, berth_code, coalesce(tonnage, 0) as tonnage from "landing"."call"
       ) as q
       where q."tonnage" > cast(current_setting('load.bound') as numeric(12,2));
       create temp table raw_rows on commit drop as
       select cast(q."call_no" as text) as "call_no",
              cast(q."tonnage" as numeric(12,2)) as "tonnage",
              q."berth_code"
       from (
       select call_no, berth_code, coalesce(tonnage, 0) as tonnage from "landing"."call"
       ) as q
       where q."tonnage" > cast(current_setting('load.bound') as numeric(12,2));
     create temp table query_rows on commit drop as
     select q."call_no",
            q."tonnage",
            q."berth_code",
            cast(coalesce(d0."berth_key", 0) as bigint) as "berth_key"
     from pg_temp.raw_rows as q
     left join "core"."dim_berth" as d0 on d0."berth_code" = q."berth_code" and d0."berth_key" <> 0;
     -- stops: looking up keys multiplied rows [look_ups_keep_rows]: A dimension holds overlapping versions of a key: look at its checks.
     select * from (select (select count(*) from pg_temp.raw_rows) as rows_of_the_query, (select count(*) from pg_temp.query_rows) as rows_with_keys offset 0) as counted where rows_of_the_query <> rows_with_keys
     limit 100;
     -- stops: core.dim_berth does not know these berth_code: berth_key says missing ‘stop’: load core.dim_berth first, or use the unknown member for them.
     select distinct "berth_code" from pg_temp.query_rows as q where q."berth_key" = 0 and q."berth_code" is not null
     limit 100;
     -- counts
     select count(*) filter (where "berth_key" = 0) as "berth_key unknown"
     from pg_temp.query_rows;
     -- berth_key unknown: select * from pg_temp.query_rows where "berth_key" = 0 limit 50;
     drop table if exists pg_temp.raw_rows;
     analyze pg_temp.query_rows;
     create temp table changes on commit drop as
     select * from pg_temp.query_rows as q;
     insert into "core"."t" ("call_no", "berth_key", "tonnage")
     select q."call_no" as "call_no", q."berth_key" as "berth_key", q."tonnage" as "tonnage"
     from pg_temp.changes as q;
     -- counts
     select count(*) filter (where true) as "inserted"
     from pg_temp.changes;
     -- inserted: select * from pg_temp.changes where true limit 50;
     drop table if exists pg_temp.changes;
     drop table if exists pg_temp.query_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('of the version that was valid, placeholders made for members that have not come', () =>
    expect(
      loadText({
        contract:
          "call_no text not null, berth_key bigint options (looked_up_by 'berth_code', at 'arrived_at', missing 'infer') references core.dim_berth (berth_key), arrived_at timestamptz, tonnage numeric(12,2)) with (load = merge, business_key = 'call_no')",
        query: 'select call_no, berth_code, tonnage, arrived_at from landing.call',
        files: {
          'core/dim_berth.sql':
            "create table core.dim_berth (berth_key bigint options (role 'surrogate key') primary key, berth_code text not null, length_m numeric(6,1), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to')) with (load = history, business_key = 'berth_code');\nselect berth_code, length_m from landing.berth;",
        },
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     drop table if exists pg_temp.query_rows, pg_temp.raw_rows;
     lock table "core"."t" in share row exclusive mode;
     create temp table raw_rows on commit drop as
     select cast(q."call_no" as text) as "call_no",
            cast(q."arrived_at" as timestamptz) as "arrived_at",
            cast(q."tonnage" as numeric(12,2)) as "tonnage",
            q."berth_code"
     from (
     select call_no, berth_code, tonnage, arrived_at from "landing"."call"
     ) as q;
     create table if not exists "core"."dim_berth~inferred" (
       "berth_code" text not null,
       primary key ("berth_code")
     );
     lock table "core"."dim_berth~inferred" in share row exclusive mode;
     lock table "core"."dim_berth" in share row exclusive mode;
     insert into "core"."dim_berth~inferred" ("berth_code")
     select w."berth_code" from (select cast(q."berth_code" as text) as "berth_code" from pg_temp.raw_rows as q where q."berth_code" is not null) as w
     where not exists (select from "core"."dim_berth" as t where t."berth_code" = w."berth_code")
     on conflict do nothing;
     create table if not exists "core"."dim_berth~keys" (
       "berth_code" text not null,
       "valid_from" timestamptz not null,
       number bigint not null unique,
       primary key ("berth_code", "valid_from")
     );
     create table if not exists "core"."dim_berth~last" (map text primary key, number bigint not null);
     -- stops: rows without berth_code, valid_from cannot be numbered [key_map_is_complete]: Filter them out in the query, or give them a value.
     select * from (select "berth_code", cast('-infinity' as timestamptz) as "valid_from" from "core"."dim_berth~inferred") as n where n."berth_code" is null or n."valid_from" is null
     limit 100;
     insert into "core"."dim_berth~keys" ("berth_code", "valid_from", number)
     select "berth_code", "valid_from", greatest(0, (select max(number) from "core"."dim_berth~keys"), (select l.number from "core"."dim_berth~last" as l where l.map = 'keys')) + row_number() over (order by "berth_code", "valid_from")
     from (select distinct "berth_code", "valid_from" from (select "berth_code", cast('-infinity' as timestamptz) as "valid_from" from "core"."dim_berth~inferred") as keyed) as n
     where not exists (select from "core"."dim_berth~keys" as k where k."berth_code" = n."berth_code" and k."valid_from" = n."valid_from");
     insert into "core"."dim_berth~last" as l (map, number)
     select 'keys', given from (select max(number) as given from "core"."dim_berth~keys") as m where given is not null
     on conflict (map) do update set number = excluded.number where l.number < excluded.number;
     insert into "core"."dim_berth" ("berth_key", "berth_code", "length_m", "valid_from", "valid_to")
     select keys.number, i."berth_code", cast(null as numeric(6,1)), cast('-infinity' as timestamptz), cast(null as timestamptz)
     from "core"."dim_berth~inferred" as i
     join "core"."dim_berth~keys" as keys on keys."berth_code" = i."berth_code" and keys."valid_from" = '-infinity'
     where not exists (select from "core"."dim_berth" as t where t."berth_code" = i."berth_code");
     create temp table query_rows on commit drop as
     select q."call_no",
            q."arrived_at",
            q."tonnage",
            q."berth_code",
            cast(coalesce(d0."berth_key", f0."berth_key", 0) as bigint) as "berth_key",
            (d0."berth_key" is null and f0."berth_key" is not null) as before_first_0$
     from pg_temp.raw_rows as q
     left join "core"."dim_berth" as d0 on d0."berth_code" = q."berth_code" and d0."berth_key" <> 0 and q."arrived_at" >= d0."valid_from" and (d0."valid_to" is null or q."arrived_at" < d0."valid_to")
     left join (select distinct on (v."berth_code") v.* from "core"."dim_berth" as v where v."berth_key" <> 0 order by v."berth_code", v."valid_from") as f0 on f0."berth_code" = q."berth_code" and q."arrived_at" < f0."valid_from";
     -- stops: looking up keys multiplied rows [look_ups_keep_rows]: A dimension holds overlapping versions of a key: look at its checks.
     select * from (select (select count(*) from pg_temp.raw_rows) as rows_of_the_query, (select count(*) from pg_temp.query_rows) as rows_with_keys offset 0) as counted where rows_of_the_query <> rows_with_keys
     limit 100;
     -- counts
     select count(*) filter (where "berth_key" = 0) as "berth_key unknown",
            count(*) filter (where before_first_0$) as "berth_key before the first version"
     from pg_temp.query_rows;
     -- berth_key unknown: select * from pg_temp.query_rows where "berth_key" = 0 limit 50;
     -- berth_key before the first version: select * from pg_temp.query_rows where before_first_0$ limit 50;
     -- counts
     select count(*) filter (where "berth_key" in (select t."berth_key" from "core"."dim_berth" as t join "core"."dim_berth~inferred" as i on t."berth_code" = i."berth_code")) as "berth_key inferred"
     from pg_temp.query_rows;
     -- berth_key inferred: select * from pg_temp.query_rows where "berth_key" in (select t."berth_key" from "core"."dim_berth" as t join "core"."dim_berth~inferred" as i on t."berth_code" = i."berth_code") limit 50;
     drop table if exists pg_temp.raw_rows;
     analyze pg_temp.query_rows;
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
     create temp view found_changes as select * from (
       select q."call_no", q."berth_key", q."arrived_at", q."tonnage", t.row_id$, case
         when q."call_no" is null then null
         when (false) then case when t.row_id$ is null then null else 'deleted' end
         when t.row_id$ is null then case when (true) then 'inserted' end
         when ((t."berth_key", t."arrived_at", t."tonnage") is distinct from (q."berth_key", q."arrived_at", q."tonnage")) and (true) then 'updated'
       end as op$
       from pg_temp.query_rows as q
       left join (select *, ctid as row_id$ from "core"."t" as m) as t on q."call_no" = t."call_no"
     ) as found
     where op$ is not null;
     create temp table changes on commit drop as select * from pg_temp.found_changes;
     analyze pg_temp.changes ("row_id$", "op$");
     -- chooses a shape
     select of_rows >= 10000 and changed > 0.15 * of_rows as rewrite,
       format('%s: %s%s of about %s rows change (above 15 %% all rows are rewritten)', case when of_rows >= 10000 and changed > 0.15 * of_rows then 'all rows rewritten' else 'changed in place' end, about, changed, of_rows) as note
     from (select count(*) as changed, '' as about from pg_temp.changes) as n, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c;
     -- in place
       set local enable_hashjoin = off;
       set local enable_mergejoin = off;
       update "core"."t" as t set "berth_key" = c."berth_key", "arrived_at" = c."arrived_at", "tonnage" = c."tonnage"
       from (select * from pg_temp.changes where op$ = 'updated' order by row_id$) as c where t.ctid = c.row_id$;
       set local enable_hashjoin to default;
       set local enable_mergejoin to default;
       insert into "core"."t" ("call_no", "berth_key", "arrived_at", "tonnage")
       select c."call_no" as "call_no", c."berth_key" as "berth_key", c."arrived_at" as "arrived_at", c."tonnage" as "tonnage"
       from pg_temp.changes as c
       where c.op$ = 'inserted';
       create table if not exists "core"."t~asked" (
         "call_no" text not null,
         "said" jsonb not null,
         primary key ("call_no")
       );
       -- where needed
       select (select count(*) from "core"."t") > (select count(*) from pg_temp.query_rows) as needed;
         create temp table looked_up on commit drop as
         select * from (
           select q.row_id$, q."berth_key" as before_0$, case when q."berth_key" = 0 or not exists (select from "core"."dim_berth" as x where x."berth_key" = q."berth_key") then cast(coalesce(d0."berth_key", f0."berth_key", 0) as bigint) else q."berth_key" end as "berth_key"
           from (select t.*, t.ctid as row_id$, coalesce(cast(a.said ->> 'berth_code' as text), k0."berth_code") as said_0_0$ from "core"."t" as t left join "core"."t~asked" as a on a."call_no" = t."call_no"
           left join "core"."dim_berth~keys" as k0 on k0.number = t."berth_key") as q
         left join "core"."dim_berth" as d0 on d0."berth_code" = q."said_0_0$" and d0."berth_key" <> 0 and q."arrived_at" >= d0."valid_from" and (d0."valid_to" is null or q."arrived_at" < d0."valid_to")
         left join (select distinct on (v."berth_code") v.* from "core"."dim_berth" as v where v."berth_key" <> 0 order by v."berth_code", v."valid_from") as f0 on f0."berth_code" = q."said_0_0$" and q."arrived_at" < f0."valid_from"
           where not exists (select from pg_temp.query_rows as r where r."call_no" = q."call_no")
         ) as n
         where (before_0$) is distinct from ("berth_key");
         update "core"."t" as t set "berth_key" = n."berth_key"
         from pg_temp.looked_up as n where t.ctid = n.row_id$;
         -- counts
         select count(*) filter (where true) as "looked up again"
         from pg_temp.looked_up;
         -- looked up again: select * from pg_temp.looked_up where true limit 50;
         drop table if exists pg_temp.looked_up;
       delete from "core"."t~asked" as a
       where not exists (select from "core"."t" as t where t."call_no" = a."call_no" and (t."berth_key" = 0))
         or (exists (select from pg_temp.query_rows as r where r."call_no" = a."call_no") and not exists (select from (select q."call_no", jsonb_build_object('berth_code', q."berth_code") as said from pg_temp.query_rows as q join "core"."t" as t on t."call_no" = q."call_no" where q."berth_key" = 0 and q."berth_code" is not null) as w where w."call_no" = a."call_no" and w.said = a.said));
       insert into "core"."t~asked" ("call_no", "said")
       select w."call_no", w."said" from (select q."call_no", jsonb_build_object('berth_code', q."berth_code") as said from pg_temp.query_rows as q join "core"."t" as t on t."call_no" = q."call_no" where q."berth_key" = 0 and q."berth_code" is not null) as w where not exists (select from "core"."t~asked" as a where a."call_no" = w."call_no");
       -- counts
       select count(*) filter (where op$ = 'inserted') as "inserted",
              count(*) filter (where op$ = 'updated') as "updated",
              count(*) filter (where op$ in ('deleted', 'missing')) as "deleted"
       from pg_temp.changes;
       -- inserted: select * from pg_temp.changes where op$ = 'inserted' limit 50;
       -- updated: select * from pg_temp.changes where op$ = 'updated' limit 50;
       -- deleted: select * from pg_temp.changes where op$ in ('deleted', 'missing') limit 50;
     -- rewritten
       create table "core~next"."t" as
       select t."call_no",
              case when c.op$ = 'updated' then c."berth_key" else t."berth_key" end as "berth_key",
              case when c.op$ = 'updated' then c."arrived_at" else t."arrived_at" end as "arrived_at",
              case when c.op$ = 'updated' then c."tonnage" else t."tonnage" end as "tonnage"
       from "core"."t" as t left join pg_temp.changes as c on c.row_id$ = t.ctid
       union all
       select c."call_no" as "call_no", c."berth_key" as "berth_key", c."arrived_at" as "arrived_at", c."tonnage" as "tonnage"
       from pg_temp.changes as c
       where c.op$ = 'inserted';
       create table if not exists "core"."t~asked" (
         "call_no" text not null,
         "said" jsonb not null,
         primary key ("call_no")
       );
       -- where needed
       select (select count(*) from "core~next"."t") > (select count(*) from pg_temp.query_rows) as needed;
         create temp table looked_up on commit drop as
         select * from (
           select q.row_id$, q."berth_key" as before_0$, case when q."berth_key" = 0 or not exists (select from "core"."dim_berth" as x where x."berth_key" = q."berth_key") then cast(coalesce(d0."berth_key", f0."berth_key", 0) as bigint) else q."berth_key" end as "berth_key"
           from (select t.*, t.ctid as row_id$, coalesce(cast(a.said ->> 'berth_code' as text), k0."berth_code") as said_0_0$ from "core~next"."t" as t left join "core"."t~asked" as a on a."call_no" = t."call_no"
           left join "core"."dim_berth~keys" as k0 on k0.number = t."berth_key") as q
         left join "core"."dim_berth" as d0 on d0."berth_code" = q."said_0_0$" and d0."berth_key" <> 0 and q."arrived_at" >= d0."valid_from" and (d0."valid_to" is null or q."arrived_at" < d0."valid_to")
         left join (select distinct on (v."berth_code") v.* from "core"."dim_berth" as v where v."berth_key" <> 0 order by v."berth_code", v."valid_from") as f0 on f0."berth_code" = q."said_0_0$" and q."arrived_at" < f0."valid_from"
           where not exists (select from pg_temp.query_rows as r where r."call_no" = q."call_no")
         ) as n
         where (before_0$) is distinct from ("berth_key");
         update "core~next"."t" as t set "berth_key" = n."berth_key"
         from pg_temp.looked_up as n where t.ctid = n.row_id$;
         -- counts
         select count(*) filter (where true) as "looked up again"
         from pg_temp.looked_up;
         -- looked up again: select * from pg_temp.looked_up where true limit 50;
         drop table if exists pg_temp.looked_up;
       delete from "core"."t~asked" as a
       where not exists (select from "core~next"."t" as t where t."call_no" = a."call_no" and (t."berth_key" = 0))
         or (exists (select from pg_temp.query_rows as r where r."call_no" = a."call_no") and not exists (select from (select q."call_no", jsonb_build_object('berth_code', q."berth_code") as said from pg_temp.query_rows as q join "core~next"."t" as t on t."call_no" = q."call_no" where q."berth_key" = 0 and q."berth_code" is not null) as w where w."call_no" = a."call_no" and w.said = a.said));
       insert into "core"."t~asked" ("call_no", "said")
       select w."call_no", w."said" from (select q."call_no", jsonb_build_object('berth_code', q."berth_code") as said from pg_temp.query_rows as q join "core~next"."t" as t on t."call_no" = q."call_no" where q."berth_key" = 0 and q."berth_code" is not null) as w where not exists (select from "core"."t~asked" as a where a."call_no" = w."call_no");
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
     drop table if exists pg_temp.query_rows;
     set local parallel_tuple_cost to default;"
    `));
});
