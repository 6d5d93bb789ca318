-- staging.dues_invoice and staging.payment, one below the other
select
  invoice_id::bigint as invoice_id,
  invoiced_on::date as booked_on,
  amount::numeric(12,2) as amount,
  'charged' as entry
from staging.dues_invoice
union all
select
  invoice_id::bigint as invoice_id,
  paid_on::date as booked_on,
  amount::numeric(12,2) as amount,
  'paid' as entry
from staging.payment;
