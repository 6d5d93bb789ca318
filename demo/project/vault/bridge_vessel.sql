-- From each vessel over its links
create table vault.bridge_vessel (
  vessel_hub bigint  not null,
  hull_no    text    not null,
  owner_hub  bigint,
  owner_id   integer
);

select
  h.vessel_hub,
  h.hull_no,
  l1.owner_hub,
  l1.owner_id
from vault.hub_vessel h
left join vault.link_vessel_owner l1 on l1.vessel_hub = h.vessel_hub
where h.vessel_hub <> 0;
