-- Which vessel was ever seen with which owner
create table vault.link_vessel_owner (
  vessel_owner_link bigint      options (role 'surrogate key') primary key,
  vessel_hub        bigint      options (looked_up_by 'hull_no') not null references vault.hub_vessel (vessel_hub),
  owner_hub         bigint      options (looked_up_by 'owner_id') not null references vault.hub_owner (owner_hub),
  hull_no           text        not null,
  owner_id          integer     not null,
  first_seen        timestamptz options (role 'loaded at') not null
) with (load = merge, business_key = 'hull_no, owner_id', key_method = hash);

select distinct
  hull_no,
  owner_id
from staging.vessel
where hull_no is not null and owner_id is not null;
