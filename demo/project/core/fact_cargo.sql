-- Cargo lines as they come in; they are never changed.
create table core.fact_cargo (
  line_id    bigint        primary key,
  call_no    text          not null,
  berth_key  bigint        options (looked_up_by 'berth_code', missing 'stop') not null references core.dim_berth (berth_key),
  goods_code text          not null references reference.goods_code (goods_code),
  direction  text          not null check (direction in ('in', 'out')),
  tonnes     numeric(12,2) options (role 'measure') not null,
  loaded_at  timestamptz   options (role 'loaded at') not null
) with (load = append, watermark = 'line_id', owner = 'harbour master', tolerate = 'fact_cargo_goods_code_fkey: 1%');
comment on table core.fact_cargo is 'Goods handled, one row a line of a cargo list.';

select l.line_id,
       l.call_no,
       c.berth_code,
       l.goods_code,
       l.direction,
       l.tonnes
from staging.cargo_line l
left join staging.call c using (call_no);
