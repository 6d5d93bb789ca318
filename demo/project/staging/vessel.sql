-- A tonnage of nought means that nobody measured.
select v.hull_no,
       trim(v.vessel_name)               as vessel_name,
       v.flag                            as flag_code,
       nullif(v.gross_t, 0)::numeric(10,1) as gross_tonnage,
       v.owner_id,
       v.built_on,
       v.scrapped_on,
       v.changed_at,
       functions.hull_no_is_valid(v.hull_no) as hull_no_is_valid
from landing.vessel v;
