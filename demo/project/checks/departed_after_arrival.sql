create view checks.departed_after_arrival with (about = 'core.fact_call') as
select call_no, arrived_at, departed_at
from core.fact_call
where departed_at < arrived_at;
comment on view checks.departed_after_arrival is 'A vessel cannot leave before it came.';
