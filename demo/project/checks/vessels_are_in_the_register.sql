-- Scrapped vessels may still have calls from before.
create view checks.vessels_are_in_the_register with (about = 'core.fact_call', tolerate = '5%') as
select c.call_no, c.hull_no
from core.fact_call c
where not exists (select from core.dim_vessel v where v.hull_no = c.hull_no);
