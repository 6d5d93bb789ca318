-- What each terminal reached in a quarter, against what the board expects.
create table mart.terminal_quarter (
  terminal_code  text not null,
  quarter        date not null,
  calls          bigint not null,
  tonnage        numeric(14,2) not null,
  dues           numeric(14,2) not null,
  dues_target    numeric(14,2),
  dues_reached   numeric(6,3),
  primary key (terminal_code, quarter)
);
comment on table mart.terminal_quarter is 'Tonnage and dues by terminal and quarter, against target.';

with calls as (
  select b.terminal_code,
         date_trunc('quarter', c.arrived_at)::date as quarter,
         count(*) as calls,
         sum(c.tonnage) as tonnage
  from core.fact_call c
  join core.dim_berth b on b.berth_code = c.berth_code and b.is_current
  group by 1, 2
), dues as (
  select b.terminal_code,
         date_trunc('quarter', d.invoiced_on)::date as quarter,
         sum(d.amount) as dues
  from core.fact_dues d
  join core.dim_berth b on b.berth_key = d.berth_key
  group by 1, 2
)
select c.terminal_code,
       c.quarter,
       c.calls,
       c.tonnage,
       coalesce(d.dues, 0) as dues,
       t.dues_target,
       (coalesce(d.dues, 0) / t.dues_target)::numeric(6,3) as dues_reached
from calls c
left join dues d using (terminal_code, quarter)
left join reference.terminal_target t using (terminal_code, quarter);
