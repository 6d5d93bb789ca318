-- The calendar from 2025-01-01 to 2027-12-31; ISO weeks, the fiscal year begins in month 4
create table core.dim_date (
  date_key       integer primary key,
  day            date    not null unique,
  year           integer not null,
  quarter        integer not null,
  month          integer not null check (month between 1 and 12),
  month_name     text    not null,
  week_year      integer not null,
  week           integer not null check (week between 1 and 54),
  day_of_week    integer not null check (day_of_week between 1 and 7),
  day_name       text    not null,
  is_weekend     boolean not null,
  fiscal_year    integer not null,
  fiscal_quarter integer not null,
  fiscal_month   integer not null check (fiscal_month between 1 and 12)
);

select
  to_char(d, 'YYYYMMDD')::integer as date_key,
  d::date as day,
  extract(year from d)::integer as year,
  extract(quarter from d)::integer as quarter,
  extract(month from d)::integer as month,
  to_char(d, 'FMMonth') as month_name,
  extract(isoyear from d)::integer as week_year,
  extract(week from d)::integer as week,
  extract(isodow from d)::integer as day_of_week,
  to_char(d, 'FMDay') as day_name,
  extract(isodow from d) in (6, 7) as is_weekend,
  extract(year from d - interval '3 months')::integer + 1 as fiscal_year,
  extract(quarter from d - interval '3 months')::integer as fiscal_quarter,
  extract(month from d - interval '3 months')::integer as fiscal_month
from generate_series('2025-01-01'::timestamp, '2027-12-31'::timestamp, interval '1 day') as g (d);
