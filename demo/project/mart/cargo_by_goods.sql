select g.goods_name,
       l.direction,
       count(*) as lines,
       sum(l.tonnes) as tonnes
from staging.cargo_line l
join reference.goods_code g using (goods_code)
group by g.goods_name, l.direction;
