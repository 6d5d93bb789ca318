-- Owners, numbered by a hash of their number in the register: the same in every warehouse.
create table core.dim_owner (
  owner_key  bigint options (role 'surrogate key') primary key,
  owner_id   integer not null unique,
  owner_name text    not null,
  flag_code  text,
  is_gone    boolean options (role 'deleted flag') not null
) with (load = merge, business_key = 'owner_id', key_method = hash, missing_rows = flag, largest_loss = '20%');
comment on table core.dim_owner is 'Owners of vessels; those that left the register are marked.';

select owner_id, trim(owner_name) as owner_name, flag_code
from landing.owner;
