select i.invoice_id,
       i.invoice_no,
       i.call_no,
       i.invoiced_on,
       i.amount::numeric(12,2) as amount
from landing.dues_invoice i;
