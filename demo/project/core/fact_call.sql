-- One row a call that took place.
create table core.fact_call (
  call_no        text          primary key,
  vessel_key     bigint        options (looked_up_by 'hull_no', at 'arrived_at') not null references core.dim_vessel (vessel_key),
  hull_no        text          not null,
  berth_code     text          not null references core.dim_berth (berth_code),
  berth_key      bigint        options (looked_up_by 'berth_code', at 'arrived_at', before_first 'unknown') not null references core.dim_berth (berth_key),
  from_port_key  bigint        options (looked_up_by 'from_port_code') not null references core.dim_port (port_key),
  to_port_key    bigint        options (looked_up_by 'to_port_code') not null references core.dim_port (port_key),
  arrived_at     timestamptz   not null,
  departed_at    timestamptz,
  hours_at_berth numeric(8,2)  check (hours_at_berth >= 0),
  tonnage        numeric(12,2) options (role 'measure') not null check (tonnage >= 0)
) with (owner = 'harbour master');
comment on table core.fact_call is 'Calls that took place: who lay where, from when to when, and how much was handled.';
comment on column core.fact_call.berth_key is 'The berth as it was when the vessel came; unknown where the register says nothing of that time.';

select c.call_no,
       c.hull_no,
       c.berth_code,
       c.from_port_code,
       c.to_port_code,
       c.arrived_at,
       c.departed_at,
       (extract(epoch from c.departed_at - c.arrived_at) / 3600)::numeric(8,2) as hours_at_berth,
       c.tonnage
from staging.call c
where c.status in ('arrived', 'departed');

create index on core.fact_call (arrived_at);
create index on core.fact_call (berth_code);
