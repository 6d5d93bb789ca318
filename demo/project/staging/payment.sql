select payment_id, invoice_id, paid_on, amount::numeric(12,2) as amount
from landing.payment;
