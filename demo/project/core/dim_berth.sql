create table core.dim_berth (
  berth_code    text primary key,
  berth_name    text not null,
  terminal_code text not null,
  terminal_name text not null,
  length_m      numeric(6,1) check (length_m between 20 and 500),
  depth_m       numeric(4,1)
) with (owner = 'harbour master');
comment on table core.dim_berth is 'Berths with the terminal that they belong to.';

select b.berth_code,
       b.berth_name,
       b.terminal_code,
       t.terminal_name,
       b.length_m,
       b.depth_m
from staging.berth b
join staging.terminal t using (terminal_code);
