import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../../sql/parser.js';
import { loadText } from '../testing.js';

beforeAll(loadParser);

describe('A dated load replaces the copy of a day.', () => {
  test('one copy a day, the last two kept', () =>
    expect(
      loadText({
        contract:
          "call_no text not null, berth_code text, tonnage numeric(12,2), as_of date options (role 'as of'), is_current boolean options (role 'current flag')) with (load = dated, business_key = 'call_no', keep_copies = 2)",
        query: 'select call_no, berth_code, tonnage, arrived_at::date as as_of from landing.call',
      }),
    ).toMatchInlineSnapshot(`
     "set local parallel_tuple_cost = 0;
     lock table "core"."t" in share row exclusive mode;
     create temp view query_rows as
     select cast(q."call_no" as text) as "call_no",
            cast(q."berth_code" as text) as "berth_code",
            cast(q."tonnage" as numeric(12,2)) as "tonnage",
            cast(q."as_of" as date) as "as_of"
     from (
     select call_no, berth_code, tonnage, arrived_at::date as as_of from "landing"."call"
     ) as q;
     set local parallel_tuple_cost to default;
     -- stops: the query’s rows cannot be loaded
     select q."call_no", q."as_of" from pg_temp.query_rows as q group by q."call_no", q."as_of" having count(*) > 1 or q."as_of" is null
     limit 100;
       -- stops: the query returns rows whose as_of is null [keys_are_known]: Filter them out in the query, or give them a value.
       select * from pg_temp.query_rows as q where q."as_of" is null
       limit 100;
       -- stops: the query returns more than one row for a call_no, as_of [one_row_a_key]: Decide in the query which row counts: distinct on, or a condition.
       select q."call_no", q."as_of", count(*) as rows from pg_temp.query_rows as q group by q."call_no", q."as_of" having count(*) > 1
       limit 100;
       -- shows
       select * from pg_temp.query_rows as q
       where (q."call_no", q."as_of") in (select q."call_no", q."as_of" from pg_temp.query_rows as q group by q."call_no", q."as_of" having count(*) > 1)
       order by q."call_no", q."as_of"
       limit 100;
     set local parallel_tuple_cost = 0;
     create temp table changes on commit drop as
     with delivered as materialized (
       select distinct "as_of" from pg_temp.query_rows
     ), dates as materialized (
       select "as_of", (select min(t."as_of") from "core"."t" as t where t."as_of" >= d."as_of") is not distinct from d."as_of" as replaced$ from delivered as d where "as_of" >= (select min("as_of") from (select "as_of" from delivered union select "as_of" from "core"."t" order by "as_of" desc limit 2) as kept)
     )
     select "as_of", replaced$, case when replaced$ then "as_of" in (select "as_of" from ((select q."call_no" as "call_no", q."berth_code" as "berth_code", q."tonnage" as "tonnage", q."as_of" as "as_of" from pg_temp.query_rows as q where q."as_of" in (select "as_of" from "core"."t") except all select t."call_no" as "call_no", t."berth_code" as "berth_code", t."tonnage" as "tonnage", t."as_of" as "as_of" from "core"."t" as t where t."as_of" in (select "as_of" from pg_temp.query_rows)) union all (select t."call_no" as "call_no", t."berth_code" as "berth_code", t."tonnage" as "tonnage", t."as_of" as "as_of" from "core"."t" as t where t."as_of" in (select "as_of" from pg_temp.query_rows) except all select q."call_no" as "call_no", q."berth_code" as "berth_code", q."tonnage" as "tonnage", q."as_of" as "as_of" from pg_temp.query_rows as q where q."as_of" in (select "as_of" from "core"."t"))) as different) else true end as differs$
     from dates;
     delete from "core"."t" where "as_of" in (select "as_of" from pg_temp.changes where replaced$ and differs$);
     update "core"."t" set "is_current" = not "is_current"
     where "is_current" is distinct from ("as_of" = (select greatest((select max("as_of") from "core"."t"), (select max("as_of") from pg_temp.changes))));
     insert into "core"."t" ("call_no", "berth_code", "tonnage", "as_of", "is_current")
     select q."call_no" as "call_no", q."berth_code" as "berth_code", q."tonnage" as "tonnage", q."as_of" as "as_of", q."as_of" = (select greatest((select max("as_of") from "core"."t"), (select max("as_of") from pg_temp.changes))) as "is_current"
     from pg_temp.query_rows as q
     where q."as_of" in (select "as_of" from pg_temp.changes where differs$);
     delete from "core"."t" where "as_of" < (select min("as_of") from (select distinct "as_of" from "core"."t" order by "as_of" desc limit 2) as kept);
     -- counts
     select count(*) filter (where not replaced$) as "new dates",
            count(*) filter (where replaced$ and differs$) as "replaced dates",
            count(*) filter (where not differs$) as "unchanged dates",
            (select count(distinct "as_of") from pg_temp.query_rows) - count(*) as "dates too old to stay"
     from pg_temp.changes;
     -- new dates: select * from pg_temp.changes where not replaced$ limit 50;
     -- replaced dates: select * from pg_temp.changes where replaced$ and differs$ limit 50;
     -- unchanged dates: select * from pg_temp.changes where not differs$ limit 50;
     drop table if exists pg_temp.changes;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
});
