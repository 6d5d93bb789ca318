create table core.fact_dues (
  invoice_no  text          primary key,
  call_no     text          not null references core.fact_call (call_no),
  hull_no     text          not null,
  vessel_key  bigint        options (looked_up_by 'hull_no', at 'invoiced_on') not null references core.dim_vessel (vessel_key),
  berth_code  text          not null,
  berth_key   bigint        options (looked_up_by 'berth_code', at 'invoiced_on', missing 'infer') not null references core.dim_berth (berth_key),
  invoiced_on date          not null,
  amount      numeric(12,2) options (role 'measure') not null check (amount >= 0),
  paid        numeric(12,2) options (role 'measure') not null
) with (load = merge, business_key = 'invoice_no', owner = 'dues office');
comment on table core.fact_dues is 'Dues charged and paid, one row an invoice.';

select i.invoice_no,
       i.call_no,
       c.hull_no,
       c.berth_code,
       i.invoiced_on,
       i.amount,
       coalesce(p.paid, 0) as paid
from staging.dues_invoice i
join core.fact_call c using (call_no)
left join (
  select invoice_id, sum(amount) as paid
  from staging.payment
  group by invoice_id
) p using (invoice_id);
