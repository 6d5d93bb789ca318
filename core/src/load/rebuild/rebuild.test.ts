import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../../sql/parser.js';
import { loadText } from '../testing.js';

beforeAll(loadParser);

describe('A rebuilt table is remade, its numbers kept.', () => {
  test('numbered by a key map', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, call_no text not null, berth_code text, tonnage numeric(12,2)) with (load = rebuild, business_key = 'call_no')",
        query: 'select call_no, berth_code, tonnage from landing.call',
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
     create table "core"."t" as
     select keys.number as "id", q."call_no" as "call_no", q."berth_code" as "berth_code", q."tonnage" as "tonnage"
     from pg_temp.query_rows as q
     join "core"."t~keys" as keys on keys."call_no" = q."call_no";
     -- counts
     select count(*) filter (where true) as "inserted"
     from "core"."t";
     -- inserted: select * from "core"."t" where true limit 50;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('numbered by hashes', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, call_no text not null, berth_code text, tonnage numeric(12,2)) with (load = rebuild, business_key = 'call_no', key_method = hash)",
        query: 'select call_no, berth_code, tonnage from landing.call',
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
     -- stops: keys have the same hash, or a hash of 0: use key_method = sequence
     select * from (select "call_no", number$, count(*) over (partition by number$) as sharing$
     from (select distinct "call_no", hashtextextended(coalesce(length(n."call_no"::text) || ':' || n."call_no"::text, '-'), 0) as number$ from pg_temp.query_rows as n) as hashed) as counted
     where sharing$ > 1 or number$ = 0
     limit 100;
     create table "core"."t" as
     select hashtextextended(coalesce(length(q."call_no"::text) || ':' || q."call_no"::text, '-'), 0) as "id", q."call_no" as "call_no", q."berth_code" as "berth_code", q."tonnage" as "tonnage"
     from pg_temp.query_rows as q;
     -- counts
     select count(*) filter (where true) as "inserted"
     from "core"."t";
     -- inserted: select * from "core"."t" where true limit 50;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
});
