-- Berths as they were at each time: the register says when a berth was dredged, renamed or given to another terminal.
create table core.dim_berth (
  berth_key     bigint       options (role 'surrogate key') primary key,
  berth_no      bigint       options (role 'durable key') not null,
  berth_code    text         not null,
  berth_name    text         options (on_change 'overwrite', unknown 'unknown') not null,
  terminal_code text         not null,
  terminal_name text         options (unknown 'unknown') not null,
  length_m      numeric(6,1) check (length_m between 20 and 500),
  depth_m       numeric(4,1),
  valid_from    timestamptz  options (role 'valid from') not null,
  valid_to      timestamptz  options (role 'valid to'),
  is_current    boolean      options (role 'current flag') not null,
  version_no    integer      options (role 'version number') not null,
  says          uuid         options (role 'row hash') not null
) with (load = history, business_key = 'berth_code', effective_from = 'changed_at', owner = 'harbour master');
comment on table core.dim_berth is 'Berths with the terminal that they belong to, as they were at each time.';
comment on column core.dim_berth.berth_no is 'Stands for the berth, whatever its version.';
comment on column core.dim_berth.says is 'A hash of what the register said.';

select b.berth_code,
       b.berth_name,
       b.terminal_code,
       t.terminal_name,
       b.length_m,
       b.depth_m,
       b.changed_at
from staging.berth b
join staging.terminal t using (terminal_code);
