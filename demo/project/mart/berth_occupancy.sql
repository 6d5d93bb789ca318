create table mart.berth_occupancy as
select b.berth_code,
       b.terminal_name,
       date_trunc('week', c.arrived_at)::date as week,
       count(*) as calls,
       sum(c.hours_at_berth) as hours_occupied,
       (sum(c.hours_at_berth) / 168)::numeric(6,3) as share_of_week
from core.fact_call c
join core.dim_berth b on b.berth_code = c.berth_code and b.is_current
where c.departed_at is not null
group by 1, 2, 3;
