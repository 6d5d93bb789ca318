-- One row a vessel, as it is now.
create table core.dim_vessel (
  hull_no       text          primary key,
  vessel_name   text          not null,
  flag_code     text          not null,
  flag_name     text,
  gross_tonnage numeric(10,1) constraint tonnage_positive check (gross_tonnage > 0),
  tonnage_band  text          not null,
  owner_id      integer,
  built_on      date,
  constraint hull_no_valid check (hull_no like 'KR-%')
) with (load = rebuild, owner = 'fleet desk', advisory = 'dim_vessel_flag_code_not_null');
comment on table core.dim_vessel is 'Vessels that are afloat, with their flag and size.';
comment on column core.dim_vessel.hull_no is 'The number welded to the hull; never reused.';
comment on column core.dim_vessel.flag_code is 'Where the vessel is registered today.';
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
