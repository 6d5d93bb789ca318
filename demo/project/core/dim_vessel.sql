-- Vessels as they were at each time: a change of flag or size makes a new version.
create table core.dim_vessel (
  vessel_key    bigint        options (role 'surrogate key') primary key,
  hull_no       text          not null,
  vessel_name   text          options (on_change 'overwrite') not null,
  flag_code     text          options (on_change 'version') not null,
  flag_name     text          options (on_change 'overwrite'),
  earlier_flag  text          options (on_change 'previous', previous_of 'flag_code'),
  gross_tonnage numeric(10,1) options (on_change 'version') constraint tonnage_positive check (gross_tonnage > 0),
  tonnage_band  text          options (on_change 'version', unknown 'unmeasured') not null,
  owner_id      integer       options (on_change 'overwrite'),
  built_on      date          options (on_change 'keep'),
  valid_from    timestamptz   options (role 'valid from') not null,
  valid_to      timestamptz   options (role 'valid to'),
  is_current    boolean       options (role 'current flag') not null,
  constraint hull_no_valid check (hull_no like 'KR-%')
) with (load = history, business_key = 'hull_no', owner = 'fleet desk', advisory = 'dim_vessel_flag_code_not_null');
comment on table core.dim_vessel is 'Vessels that are afloat, with the flag and size that they had at each time.';
comment on column core.dim_vessel.hull_no is 'The number welded to the hull; never reused.';
comment on column core.dim_vessel.flag_code is 'Where the vessel was registered.';
comment on constraint tonnage_positive on core.dim_vessel is 'A vessel without tonnage pays no dues.';

select v.hull_no,
       v.vessel_name,
       v.flag_code,
       f.flag_name,
       v.gross_tonnage,
       case
         when v.gross_tonnage is null then 'unmeasured'
         when v.gross_tonnage < 5000 then 'small'
         when v.gross_tonnage < 30000 then 'medium'
         else 'large'
       end as tonnage_band,
       v.owner_id,
       v.built_on
from staging.vessel v
left join reference.flag f on f.flag_code = v.flag_code
where v.scrapped_on is null;

create index on core.dim_vessel (flag_code);
