-- What lying at a berth cost on each day of which a copy was delivered; the newest is current.
create table core.berth_rate (
  berth_code text         not null,
  as_of      date         options (role 'as of') not null,
  rate       numeric(8,2) options (role 'measure') not null check (rate > 0),
  charged    text         not null check (charged in ('by day', 'by call')),
  is_current boolean      options (role 'current flag') not null,
  primary key (berth_code, as_of)
) with (load = dated, keep_copies = 400, owner = 'harbour master');
comment on table core.berth_rate is 'Berth rates by day of delivery.';

select r.berth_code,
       r.as_of,
       r.rate,
       r.charged
from landing.berth_rate r;
