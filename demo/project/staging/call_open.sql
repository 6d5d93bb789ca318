-- rows of staging.call where status in ('announced', 'arrived')
select *
from staging.call
where (status in ('announced', 'arrived'));
