-- Names arrive with blanks around them.
create table staging.berth (
  berth_code    text not null,
  terminal_code text not null,
  berth_name    text not null,
  length_m      numeric(6,1) check (length_m > 0),
  depth_m       numeric(4,1),
  changed_at    timestamptz
) with (load = view);
comment on table staging.berth is 'Berths, cleaned.';

select b.berth_code,
       b.terminal_code,
       trim(b.berth_name) as berth_name,
       b.length_m,
       b.depth_m,
       b.changed_at
from landing.berth b;
