-- Every vessel that was ever seen, by its key
create table vault.hub_vessel (
  vessel_hub bigint      options (role 'surrogate key') primary key,
  hull_no    text        not null unique,
  first_seen timestamptz options (role 'loaded at') not null
) with (load = merge, business_key = 'hull_no', key_method = hash);

select distinct
  hull_no
from staging.vessel
where hull_no is not null;
