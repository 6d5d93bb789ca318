-- Which vessels lay longest?
select c.hull_no, v.vessel_name, c.berth_code, c.hours_at_berth
from core.fact_call c
join core.dim_vessel v using (hull_no)
order by c.hours_at_berth desc nulls last
limit 20;
