create table core.dim_port (
  port_key  bigint options (role 'surrogate key') primary key,
  port_code text   not null unique,
  port_name text   options (unknown 'unknown') not null,
  flag_code text   references reference.flag (flag_code)
) with (load = merge, business_key = 'port_code');
comment on table core.dim_port is 'Ports that vessels come from and go to.';

select port_code, port_name, flag_code
from staging.port;
