-- mart.cargo_by_goods: values of direction as columns
select
  goods_name,
  sum(tonnes) filter (where direction = 'in') as tonnes_in,
  sum(tonnes) filter (where direction = 'out') as tonnes_out
from mart.cargo_by_goods
group by goods_name;
