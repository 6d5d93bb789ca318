import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../../sql/parser.js';
import { loadText } from '../testing.js';

beforeAll(loadParser);

describe('A history from events cuts the versions of each touched key again.', () => {
  test('overwritten in all versions, an earlier value remembered', () =>
    expect(
      loadText({
        contract:
          "call_no text not null, berth_code text options (on_change 'overwrite'), tonnage numeric(12,2), before_it numeric(12,2) options (on_change 'previous', previous_of 'tonnage'), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')) with (load = history, business_key = 'call_no', effective_from = 'arrived_at', overwrite_scope = all)",
        query: 'select call_no, berth_code, tonnage, arrived_at from landing.call',
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
     create table if not exists "core"."t~events" as select "call_no", "berth_code", "tonnage", "arrived_at" from pg_temp.query_rows with no data;
     create index if not exists "t~events~by_key" on "core"."t~events" ("call_no", "arrived_at");
     create temp table changes on commit drop as
     select distinct q."call_no", q."berth_code", q."tonnage", q."arrived_at" from pg_temp.query_rows as q
     where not exists (select from "core"."t~events" as e where e."call_no" = q."call_no" and e."arrived_at" = q."arrived_at" and not ((e."berth_code", e."tonnage") is distinct from (q."berth_code", q."tonnage")));
     analyze pg_temp.changes ("call_no", "arrived_at");
     insert into "core"."t~events" ("call_no", "berth_code", "tonnage", "arrived_at") select "call_no", "berth_code", "tonnage", "arrived_at" from pg_temp.changes;
     -- chooses a shape
     select of_rows >= 10000 and changed > 0.3 * of_rows as rewrite,
       format('%s: %s%s of about %s rows change (above 30 %% all rows are rewritten)', case when of_rows >= 10000 and changed > 0.3 * of_rows then 'all rows rewritten' else 'changed in place' end, about, changed, of_rows) as note
     from (select round(of_rows * coalesce(h.changed::numeric / nullif(s.rows, 0), 0))::bigint as changed, 'about ' as about
       from (select count(op$) as changed from (select 'touched' as op$ from (select *, ctid as row_id$ from "core"."t" tablesample system ((select case when of_rows < 10000 then 1 else least(100, 100.0 * 10000 / of_rows) end from (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as t)) repeatable (1)) as t join (select distinct c."call_no" from pg_temp.changes as c where (c."call_no") in (select "call_no" from (select *, ctid as row_id$ from "core"."t" tablesample system ((select case when of_rows < 10000 then 1 else least(100, 100.0 * 10000 / of_rows) end from (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as t)) repeatable (1)) as s)) as c on c."call_no" = t."call_no") as held) as h, (select count(*) as rows from (select *, ctid as row_id$ from "core"."t" tablesample system ((select case when of_rows < 10000 then 1 else least(100, 100.0 * 10000 / of_rows) end from (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as t)) repeatable (1)) as sample) as s, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c) as n, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c;
     -- in place
       create temp table versions on commit drop as
       with touched as (
         select * from "core"."t~events" as e
         where (e."call_no") in (select "call_no" from pg_temp.changes)
       ), marked as (
         select *, row_number() over w = 1 or "tonnage" is distinct from lag("tonnage") over w or "arrived_at" = lag("arrived_at") over w as starts$, case when row_number() over w > 1 and "tonnage" is distinct from lag("tonnage") over w then 1 else 0 end as changed_0$, lag("tonnage") over w as lag_0$
         from touched
         window w as (partition by "call_no" order by "arrived_at")
       ), grouped as (
         select *, count(*) filter (where starts$) over w as group_no$, sum(changed_0$) over w as change_no_0$
         from marked
         window w as (partition by "call_no" order by "arrived_at")
       ), carried as (
         select *, case when change_no_0$ > 0 then first_value(lag_0$) over (partition by "call_no", change_no_0$ order by "arrived_at") end as before_0$
         from grouped
       ), held as (
         select starts$, "arrived_at" as version_from$, group_no$, "call_no",
           first_value("berth_code") over (partition by "call_no" order by "arrived_at" desc) as "berth_code",
           "tonnage",
           first_value(before_0$) over (partition by "call_no", group_no$ order by "arrived_at" desc) as "before_it"
         from carried
       )
       select "call_no", "berth_code", "tonnage", "before_it",
         version_from$ as "valid_from",
         lead(version_from$) over (partition by "call_no" order by version_from$) as "valid_to",
         group_no$ as version_no$
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
       delete from "core"."t" as t where (t."call_no") in (select "call_no" from pg_temp.changes);
       insert into "core"."t" ("call_no", "berth_code", "tonnage", "before_it", "valid_from", "valid_to", "is_current")
       select n."call_no" as "call_no", n."berth_code" as "berth_code", n."tonnage" as "tonnage", n."before_it" as "before_it", n."valid_from" as "valid_from", n."valid_to" as "valid_to", n."valid_to" is null as "is_current"
       from pg_temp.versions as n;
     -- rewritten
       create table "core~next"."t" as
       select n."call_no" as "call_no", n."berth_code" as "berth_code", n."tonnage" as "tonnage", n."before_it" as "before_it", n."valid_from" as "valid_from", n."valid_to" as "valid_to", n."valid_to" is null as "is_current"
       from (
       with touched as (
         select * from "core"."t~events" as e
         where (e."call_no") in (select "call_no" from pg_temp.changes)
       ), marked as (
         select *, row_number() over w = 1 or "tonnage" is distinct from lag("tonnage") over w or "arrived_at" = lag("arrived_at") over w as starts$, case when row_number() over w > 1 and "tonnage" is distinct from lag("tonnage") over w then 1 else 0 end as changed_0$, lag("tonnage") over w as lag_0$
         from touched
         window w as (partition by "call_no" order by "arrived_at")
       ), grouped as (
         select *, count(*) filter (where starts$) over w as group_no$, sum(changed_0$) over w as change_no_0$
         from marked
         window w as (partition by "call_no" order by "arrived_at")
       ), carried as (
         select *, case when change_no_0$ > 0 then first_value(lag_0$) over (partition by "call_no", change_no_0$ order by "arrived_at") end as before_0$
         from grouped
       ), held as (
         select starts$, "arrived_at" as version_from$, group_no$, "call_no",
           first_value("berth_code") over (partition by "call_no" order by "arrived_at" desc) as "berth_code",
           "tonnage",
           first_value(before_0$) over (partition by "call_no", group_no$ order by "arrived_at" desc) as "before_it"
         from carried
       )
       select "call_no", "berth_code", "tonnage", "before_it",
         version_from$ as "valid_from",
         lead(version_from$) over (partition by "call_no" order by version_from$) as "valid_to",
         group_no$ as version_no$
       from held
       where starts$
       ) as n
       union all
       select t."call_no", t."berth_code", t."tonnage", t."before_it", t."valid_from", t."valid_to", t."is_current"
       from "core"."t" as t where not exists (select from pg_temp.changes as c where c."call_no" = t."call_no");
       -- stops: the query’s rows cannot be loaded
       select * from "core~next"."t" as v where v."valid_to" <= v."valid_from"
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
         select * from "core~next"."t" as v where v."valid_to" <= v."valid_from"
         limit 100;
     -- counts
     select count(*) filter (where true) as "new events",
            (select count(*) from pg_temp.query_rows) - count(*) filter (where true) as "unchanged"
     from pg_temp.changes;
     -- new events: select * from pg_temp.changes where true limit 50;
     drop table if exists pg_temp.changes, pg_temp.versions;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('plain, in the order of another column, a column overwritten', () =>
    expect(
      loadText({
        contract:
          "call_no text not null, berth_code text options (on_change 'overwrite'), tonnage numeric(12,2), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')) with (load = history, business_key = 'call_no', effective_from = 'arrived_at', order_within = 'tonnage', overwrite_scope = current)",
        query: 'select call_no, berth_code, tonnage, arrived_at from landing.call',
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
     create table if not exists "core"."t~events" as select "call_no", "berth_code", "tonnage", "arrived_at" from pg_temp.query_rows with no data;
     create index if not exists "t~events~by_key" on "core"."t~events" ("call_no", "arrived_at");
     create temp table changes on commit drop as
     select distinct q."call_no", q."berth_code", q."tonnage", q."arrived_at" from pg_temp.query_rows as q
     where not exists (select from "core"."t~events" as e where e."call_no" = q."call_no" and e."arrived_at" = q."arrived_at" and not ((e."berth_code", e."tonnage") is distinct from (q."berth_code", q."tonnage")));
     analyze pg_temp.changes ("call_no", "arrived_at");
     insert into "core"."t~events" ("call_no", "berth_code", "tonnage", "arrived_at") select "call_no", "berth_code", "tonnage", "arrived_at" from pg_temp.changes;
     -- chooses a shape
     select of_rows >= 10000 and changed > 0.3 * of_rows as rewrite,
       format('%s: %s%s of about %s rows change (above 30 %% all rows are rewritten)', case when of_rows >= 10000 and changed > 0.3 * of_rows then 'all rows rewritten' else 'changed in place' end, about, changed, of_rows) as note
     from (select round(of_rows * coalesce(h.changed::numeric / nullif(s.rows, 0), 0))::bigint as changed, 'about ' as about
       from (select count(op$) as changed from (select 'touched' as op$ from (select *, ctid as row_id$ from "core"."t" tablesample system ((select case when of_rows < 10000 then 1 else least(100, 100.0 * 10000 / of_rows) end from (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as t)) repeatable (1)) as t join (select distinct c."call_no" from pg_temp.changes as c where (c."call_no") in (select "call_no" from (select *, ctid as row_id$ from "core"."t" tablesample system ((select case when of_rows < 10000 then 1 else least(100, 100.0 * 10000 / of_rows) end from (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as t)) repeatable (1)) as s)) as c on c."call_no" = t."call_no") as held) as h, (select count(*) as rows from (select *, ctid as row_id$ from "core"."t" tablesample system ((select case when of_rows < 10000 then 1 else least(100, 100.0 * 10000 / of_rows) end from (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as t)) repeatable (1)) as sample) as s, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c) as n, (select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = '"core"."t"'::regclass) as c;
     -- in place
       create temp table versions on commit drop as
       with touched as (
         select distinct on (e."call_no", e."arrived_at") e.*
         from "core"."t~events" as e
         where (e."call_no") in (select "call_no" from pg_temp.changes)
         order by e."call_no", e."arrived_at", e."tonnage" desc nulls last
       ), marked as (
         select *, row_number() over w = 1 or "tonnage" is distinct from lag("tonnage") over w as starts$
         from touched
         window w as (partition by "call_no" order by "arrived_at")
       ), grouped as (
         select *, count(*) filter (where starts$) over w as group_no$
         from marked
         window w as (partition by "call_no" order by "arrived_at")
       ), held as (
         select starts$, "arrived_at" as version_from$, group_no$, "call_no",
           first_value("berth_code") over (partition by "call_no", group_no$ order by "arrived_at" desc) as "berth_code",
           "tonnage"
         from grouped
       )
       select "call_no", "berth_code", "tonnage",
         version_from$ as "valid_from",
         lead(version_from$) over (partition by "call_no" order by version_from$) as "valid_to",
         group_no$ as version_no$
       from held
       where starts$;
       analyze pg_temp.versions ("call_no", "valid_from");
       -- stops: two events of a key disagree about one instant [one_event_an_instant]: Both have the same tonnage: make it tell them apart. Where the query tells old events in a new way, start the table over.
       select * from (
         select r.*, count(*) over (partition by r."call_no", r."arrived_at") as tied$
         from (select e.*, rank() over (partition by e."call_no", e."arrived_at" order by e."tonnage" desc nulls last) as place$ from "core"."t~events" as e where (e."call_no", e."arrived_at") in (select "call_no", "arrived_at" from pg_temp.changes)) as r where place$ = 1
       ) as first_of
       where tied$ > 1
       order by "call_no", "arrived_at"
       limit 100;
       -- stops: two versions of a key overlap [versions_do_not_overlap]: Check its stored events.
       select * from pg_temp.versions as v where v."valid_to" <= v."valid_from"
       limit 100;
       delete from "core"."t" as t where (t."call_no") in (select "call_no" from pg_temp.changes);
       insert into "core"."t" ("call_no", "berth_code", "tonnage", "valid_from", "valid_to", "is_current")
       select n."call_no" as "call_no", n."berth_code" as "berth_code", n."tonnage" as "tonnage", n."valid_from" as "valid_from", n."valid_to" as "valid_to", n."valid_to" is null as "is_current"
       from pg_temp.versions as n;
     -- rewritten
       create table "core~next"."t" as
       select n."call_no" as "call_no", n."berth_code" as "berth_code", n."tonnage" as "tonnage", n."valid_from" as "valid_from", n."valid_to" as "valid_to", n."valid_to" is null as "is_current"
       from (
       with touched as (
         select distinct on (e."call_no", e."arrived_at") e.*
         from "core"."t~events" as e
         where (e."call_no") in (select "call_no" from pg_temp.changes)
         order by e."call_no", e."arrived_at", e."tonnage" desc nulls last
       ), marked as (
         select *, row_number() over w = 1 or "tonnage" is distinct from lag("tonnage") over w as starts$
         from touched
         window w as (partition by "call_no" order by "arrived_at")
       ), grouped as (
         select *, count(*) filter (where starts$) over w as group_no$
         from marked
         window w as (partition by "call_no" order by "arrived_at")
       ), held as (
         select starts$, "arrived_at" as version_from$, group_no$, "call_no",
           first_value("berth_code") over (partition by "call_no", group_no$ order by "arrived_at" desc) as "berth_code",
           "tonnage"
         from grouped
       )
       select "call_no", "berth_code", "tonnage",
         version_from$ as "valid_from",
         lead(version_from$) over (partition by "call_no" order by version_from$) as "valid_to",
         group_no$ as version_no$
       from held
       where starts$
       ) as n
       union all
       select t."call_no", t."berth_code", t."tonnage", t."valid_from", t."valid_to", t."is_current"
       from "core"."t" as t where not exists (select from pg_temp.changes as c where c."call_no" = t."call_no");
       -- stops: two events of a key disagree about one instant [one_event_an_instant]: Both have the same tonnage: make it tell them apart. Where the query tells old events in a new way, start the table over.
       select * from (
         select r.*, count(*) over (partition by r."call_no", r."arrived_at") as tied$
         from (select e.*, rank() over (partition by e."call_no", e."arrived_at" order by e."tonnage" desc nulls last) as place$ from "core"."t~events" as e where (e."call_no", e."arrived_at") in (select "call_no", "arrived_at" from pg_temp.changes)) as r where place$ = 1
       ) as first_of
       where tied$ > 1
       order by "call_no", "arrived_at"
       limit 100;
       -- stops: two versions of a key overlap [versions_do_not_overlap]: Check its stored events.
       select * from "core~next"."t" as v where v."valid_to" <= v."valid_from"
       limit 100;
     -- counts
     select count(*) filter (where true) as "new events",
            (select count(*) from pg_temp.query_rows) - count(*) filter (where true) as "unchanged"
     from pg_temp.changes;
     -- new events: select * from pg_temp.changes where true limit 50;
     drop table if exists pg_temp.changes, pg_temp.versions;
     drop view if exists pg_temp.query_rows, pg_temp.raw_rows;
     set local parallel_tuple_cost to default;"
    `));
  test('numbered, events that come late included', () =>
    expect(
      loadText({
        contract:
          "id bigint options (role 'surrogate key') primary key, call_no text not null, berth_code text, tonnage numeric(12,2), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag')) with (load = history, business_key = 'call_no', effective_from = 'arrived_at')",
        query: 'select call_no, berth_code, tonnage, arrived_at from landing.call',
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
     -- rewritten
       create table "core~next"."t" as
       select keys.number as "id", n."call_no" as "call_no", n."berth_code" as "berth_code", n."tonnage" as "tonnage", n."valid_from" as "valid_from", n."valid_to" as "valid_to", n."valid_to" is null as "is_current"
       from pg_temp.versions as n
       join "core"."t~keys" as keys on keys."call_no" = n."call_no" and keys."valid_from" = n."valid_from"
       union all
       select t."id", t."call_no", t."berth_code", t."tonnage", t."valid_from", t."valid_to", t."is_current"
       from "core"."t" as t where not exists (select from pg_temp.changes as c where c."call_no" = t."call_no");
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
