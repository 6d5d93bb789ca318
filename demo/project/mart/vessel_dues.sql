-- What each vessel was charged and paid; vessels below the least tonnage pay none.
create table mart.vessel_dues (
  hull_no     text primary key,
  vessel_name text,
  flag_name   text,
  invoices    bigint not null,
  dues_total  numeric(14,2) not null,
  paid_total  numeric(14,2) not null
);

select d.hull_no,
       v.vessel_name,
       v.flag_name,
       count(*) as invoices,
       sum(d.amount) as dues_total,
       sum(d.paid) as paid_total
from core.fact_dues d
left join core.dim_vessel v on v.hull_no = d.hull_no and v.is_current
where coalesce(v.gross_tonnage, 0) >= current_setting('param.least_tonnage')::numeric
   or v.gross_tonnage is null
group by d.hull_no, v.vessel_name, v.flag_name;
