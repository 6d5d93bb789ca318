create table reference.terminal (
  terminal_code text primary key,
  folder        text not null unique
);
comment on table reference.terminal is 'Terminals that have a mart of their own, and what its schema is called.';
