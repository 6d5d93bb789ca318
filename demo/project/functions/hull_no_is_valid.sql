-- The last digit of a hull number is the weighted sum of the others, modulo 7.
create function functions.hull_no_is_valid(hull_no text) returns boolean
language sql immutable
return hull_no ~ '^KR-[0-9]{5,}$' and (
  select sum(substr(digits, i, 1)::int * (i + 1)) % 7 = right(hull_no, 1)::int
  from (select substr(hull_no, 4, length(hull_no) - 4) as digits) d,
       generate_series(1, length(digits)) as n (i)
);
