create table core.dim_port (
  port_code text primary key,
  port_name text not null,
  flag_code text references reference.flag (flag_code)
);
comment on table core.dim_port is 'Ports that vessels come from and go to.';

select port_code, port_name, flag_code
from staging.port;
