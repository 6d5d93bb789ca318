-- Cargo lines as they come in; they are never changed.
create table core.fact_cargo (
  line_id    bigint        primary key,
  call_no    text          not null,
  goods_code text          not null references reference.goods_code (goods_code),
  direction  text          not null check (direction in ('in', 'out')),
  tonnes     numeric(12,2) options (role 'measure') not null,
  loaded_at  timestamptz   options (role 'loaded at') not null
) with (load = append, watermark = 'line_id', owner = 'harbour master', tolerate = 'fact_cargo_goods_code_fkey: 1%');
comment on table core.fact_cargo is 'Goods handled, one row a line of a cargo list.';

select line_id, call_no, goods_code, direction, tonnes
from staging.cargo_line;
