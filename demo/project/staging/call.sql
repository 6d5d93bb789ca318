-- One row a call: where a call arrived twice, the latest change counts.
select distinct on (c.call_no)
       c.call_no,
       c.hull_no,
       c.berth_code,
       c.from_port as from_port_code,
       c.to_port   as to_port_code,
       c.status,
       c.announced_at,
       c.arrived_at,
       c.departed_at,
       c.tonnage,
       c.changed_at
from landing.call c
order by c.call_no, c.changed_at desc;
