import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../../sql/parser.js';
import { loadText } from '../testing.js';

beforeAll(loadParser);

describe('An append load goes on past the greatest watermark.', () => {
  test('the first load takes all', () =>
    expect(
      loadText({
        contract:
          "call_no text not null, berth_code text, tonnage numeric(12,2), arrived_at timestamptz not null) with (load = append, watermark = 'arrived_at')",
        query: 'select call_no, berth_code, tonnage, arrived_at from landing.call',
        first: true,
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     lock table "core"."t" in share row exclusive mode;
     -- stops: the query’s rows cannot be loaded
     select * from (
     select call_no, berth_code, tonnage, arrived_at from "landing"."call"
     ) as q where q."arrived_at" is null or cast(q."arrived_at" as timestamptz) >= 'infinity'
     limit 100;
       -- stops: rows without a watermark (arrived_at): A row with a null watermark would be added at every load: filter it out, or give it a value.
       select * from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q where q."arrived_at" is null
       limit 100;
       -- stops: rows whose watermark (arrived_at) is infinite or not a number: No later row would ever pass it: filter it out, or give it a finite value.
       select * from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q where cast(q."arrived_at" as timestamptz) >= 'infinity'
       limit 100;
     create temp view query_rows as
     select cast(q."call_no" as text) as "call_no",
            cast(q."berth_code" as text) as "berth_code",
            cast(q."tonnage" as numeric(12,2)) as "tonnage",
            cast(q."arrived_at" as timestamptz) as "arrived_at"
     from (
     select call_no, berth_code, tonnage, arrived_at from "landing"."call"
     ) as q;
     select set_config('load.written', (case when cast(current_setting('track_counts') as boolean) then pg_stat_get_xact_tuples_inserted('"core"."t"'::regclass) else (select count(*) from "core"."t") end)::text, true);
     insert into "core"."t" ("call_no", "berth_code", "tonnage", "arrived_at")
     select q."call_no" as "call_no", q."berth_code" as "berth_code", q."tonnage" as "tonnage", q."arrived_at" as "arrived_at"
     from pg_temp.query_rows as q;
     -- counts
     select case when cast(current_setting('track_counts') as boolean) then pg_stat_get_xact_tuples_inserted('"core"."t"'::regclass) else (select count(*) from "core"."t") end - cast(current_setting('load.written') as bigint) as inserted;
     -- inserted: select * from pg_temp.query_rows limit 50;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('later loads go on past the watermark', () =>
    expect(
      loadText({
        contract:
          "call_no text not null, berth_code text, tonnage numeric(12,2), arrived_at timestamptz not null) with (load = append, watermark = 'arrived_at')",
        query: 'select call_no, berth_code, tonnage, arrived_at from landing.call',
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     lock table "core"."t" in share row exclusive mode;
     -- stops: the query’s rows cannot be loaded
     select * from (
     select call_no, berth_code, tonnage, arrived_at from "landing"."call"
     ) as q where q."arrived_at" is null or cast(q."arrived_at" as timestamptz) >= 'infinity'
     limit 100;
       -- stops: rows without a watermark (arrived_at): A row with a null watermark would be added at every load: filter it out, or give it a value.
       select * from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q where q."arrived_at" is null
       limit 100;
       -- stops: rows whose watermark (arrived_at) is infinite or not a number: No later row would ever pass it: filter it out, or give it a finite value.
       select * from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q where cast(q."arrived_at" as timestamptz) >= 'infinity'
       limit 100;
     -- where it holds
     select not exists (select from "core"."t" where "arrived_at" is not null) as holds;
       create temp view query_rows as
       select cast(q."call_no" as text) as "call_no",
              cast(q."berth_code" as text) as "berth_code",
              cast(q."tonnage" as numeric(12,2)) as "tonnage",
              cast(q."arrived_at" as timestamptz) as "arrived_at"
       from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q;
     -- otherwise
       select set_config('load.bound', (select (max("arrived_at") filter (where not "arrived_at" >= 'infinity'))::text from "core"."t"), true);
       -- explains
       explain (format json) select cast(q."call_no" as text) as "call_no",
              cast(q."berth_code" as text) as "berth_code",
              cast(q."tonnage" as numeric(12,2)) as "tonnage",
              cast(q."arrived_at" as timestamptz) as "arrived_at"
       from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q
       where q."arrived_at" > cast(current_setting('load.bound') as timestamptz);
       create temp view query_rows as
       select cast(q."call_no" as text) as "call_no",
              cast(q."berth_code" as text) as "berth_code",
              cast(q."tonnage" as numeric(12,2)) as "tonnage",
              cast(q."arrived_at" as timestamptz) as "arrived_at"
       from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q
       where q."arrived_at" > cast(current_setting('load.bound') as timestamptz);
     select set_config('load.written', (case when cast(current_setting('track_counts') as boolean) then pg_stat_get_xact_tuples_inserted('"core"."t"'::regclass) else (select count(*) from "core"."t") end)::text, true);
     insert into "core"."t" ("call_no", "berth_code", "tonnage", "arrived_at")
     select q."call_no" as "call_no", q."berth_code" as "berth_code", q."tonnage" as "tonnage", q."arrived_at" as "arrived_at"
     from pg_temp.query_rows as q;
     -- counts
     select case when cast(current_setting('track_counts') as boolean) then pg_stat_get_xact_tuples_inserted('"core"."t"'::regclass) else (select count(*) from "core"."t") end - cast(current_setting('load.written') as bigint) as inserted;
     -- inserted: select * from pg_temp.query_rows limit 50;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('rows that come late are taken within a look-back, by the key', () =>
    expect(
      loadText({
        contract:
          "call_no text not null, berth_code text, tonnage numeric(12,2), arrived_at timestamptz not null) with (load = append, watermark = 'arrived_at', business_key = 'call_no', look_back = '2 hours')",
        query: 'select call_no, berth_code, tonnage, arrived_at from landing.call',
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     lock table "core"."t" in share row exclusive mode;
     -- stops: the query’s rows cannot be loaded
     select * from (
     select call_no, berth_code, tonnage, arrived_at from "landing"."call"
     ) as q where q."arrived_at" is null or cast(q."arrived_at" as timestamptz) >= 'infinity'
     limit 100;
       -- stops: rows without a watermark (arrived_at): A row with a null watermark would be added at every load: filter it out, or give it a value.
       select * from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q where q."arrived_at" is null
       limit 100;
       -- stops: rows whose watermark (arrived_at) is infinite or not a number: No later row would ever pass it: filter it out, or give it a finite value.
       select * from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q where cast(q."arrived_at" as timestamptz) >= 'infinity'
       limit 100;
     -- where it holds
     select not exists (select from "core"."t" where "arrived_at" is not null) as holds;
       create temp view query_rows as
       select cast(q."call_no" as text) as "call_no",
              cast(q."berth_code" as text) as "berth_code",
              cast(q."tonnage" as numeric(12,2)) as "tonnage",
              cast(q."arrived_at" as timestamptz) as "arrived_at"
       from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q;
     -- otherwise
       select set_config('load.bound', (select ((max("arrived_at") filter (where not "arrived_at" >= 'infinity') - interval '2 hours'))::text from "core"."t"), true);
       -- explains
       explain (format json) select cast(q."call_no" as text) as "call_no",
              cast(q."berth_code" as text) as "berth_code",
              cast(q."tonnage" as numeric(12,2)) as "tonnage",
              cast(q."arrived_at" as timestamptz) as "arrived_at"
       from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q
       where q."arrived_at" > cast(current_setting('load.bound') as timestamptz);
       create temp view query_rows as
       select cast(q."call_no" as text) as "call_no",
              cast(q."berth_code" as text) as "berth_code",
              cast(q."tonnage" as numeric(12,2)) as "tonnage",
              cast(q."arrived_at" as timestamptz) as "arrived_at"
       from (
       select call_no, berth_code, tonnage, arrived_at from "landing"."call"
       ) as q
       where q."arrived_at" > cast(current_setting('load.bound') as timestamptz);
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
     select * from pg_temp.query_rows as q
     where not exists (select from "core"."t" as t where t."call_no" = q."call_no");
     insert into "core"."t" ("call_no", "berth_code", "tonnage", "arrived_at")
     select q."call_no" as "call_no", q."berth_code" as "berth_code", q."tonnage" as "tonnage", q."arrived_at" as "arrived_at"
     from pg_temp.changes as q;
     -- counts
     select count(*) filter (where true) as "inserted"
     from pg_temp.changes;
     -- inserted: select * from pg_temp.changes where true limit 50;
     drop table if exists pg_temp.changes;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
});
