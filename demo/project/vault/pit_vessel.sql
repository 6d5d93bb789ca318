-- Which version of sat_vessel held at the end of each day
create table vault.pit_vessel (
  vessel_hub  bigint            not null references vault.hub_vessel (vessel_hub),
  day         date              not null,
  vessel_sat  bigint,
  primary key (vessel_hub, day)
);

select
  h.vessel_hub,
  d.day::date as day,
  s.vessel_sat
from vault.hub_vessel h
cross join generate_series('2026-03-01'::date, '2026-03-31'::date, interval '1 day') as d (day)
left join vault.sat_vessel s
  on s.vessel_hub = h.vessel_hub
 and s.valid_from < d.day + interval '1 day'
 and (s.valid_to is null or s.valid_to >= d.day + interval '1 day')
where h.vessel_hub <> 0;
