-- Every owner that was ever seen, by its key
create table vault.hub_owner (
  owner_hub  bigint      options (role 'surrogate key') primary key,
  owner_id   integer     not null unique,
  first_seen timestamptz options (role 'loaded at') not null
) with (load = merge, business_key = 'owner_id', key_method = hash);

select
  owner_id
from staging.vessel
where owner_id is not null
union
select
  owner_id
from landing.owner
where owner_id is not null;
