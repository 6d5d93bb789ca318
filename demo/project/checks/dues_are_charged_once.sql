create view checks.dues_are_charged_once with (about = 'core.fact_dues') as
select call_no, count(*) as invoices
from core.fact_dues
group by call_no
having count(*) > 1;
