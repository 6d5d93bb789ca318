create table reference.flag (
  flag_code text primary key,
  flag_name text not null
);
comment on table reference.flag is 'Where a vessel can be registered.';
