select line_id, call_no, line_no, goods_code, direction, tonnes
from landing.cargo_line;
