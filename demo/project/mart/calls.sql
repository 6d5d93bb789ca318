-- One table a terminal, each in a schema that only its desk may read.
create table mart.calls (
  call_no     text primary key,
  berth_code  text not null,
  vessel_name text,
  arrived_at  timestamptz not null,
  departed_at timestamptz,
  tonnage     numeric(12,2) options (role 'measure') not null
) with (for_each = 'reference.terminal', each_schema = 'mart_{folder}', owner = 'harbour master');
comment on table mart.calls is 'Calls at the berths of one terminal.';

select c.call_no,
       c.berth_code,
       v.vessel_name,
       c.arrived_at,
       c.departed_at,
       c.tonnage
from core.fact_call c
join core.dim_berth b on b.berth_code = c.berth_code and b.is_current
join core.dim_vessel v on v.vessel_key = c.vessel_key
where b.terminal_code = current_setting('each.terminal_code');
