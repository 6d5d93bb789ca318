-- rows of staging.call that no other part takes
select *
from staging.call
where (status in ('announced', 'arrived')) is not true;
