-- What was said of each vessel, and when
create table vault.sat_vessel (
  vessel_sat    bigint        options (role 'surrogate key') primary key,
  vessel_hub    bigint        options (looked_up_by 'hull_no') not null references vault.hub_vessel (vessel_hub),
  hull_no       text          not null,
  vessel_name   text,
  flag_code     text,
  gross_tonnage numeric(10,1),
  says          uuid          options (role 'row hash') not null,
  valid_from    timestamptz   options (role 'valid from') not null,
  valid_to      timestamptz   options (role 'valid to'),
  is_current    boolean       options (role 'current flag') not null
) with (load = history, business_key = 'hull_no');

select
  hull_no,
  vessel_name,
  flag_code,
  gross_tonnage
from staging.vessel
where hull_no is not null;
