create table reference.terminal_target (
  terminal_code  text not null,
  quarter        date not null,
  tonnage_target numeric(14,2) not null check (tonnage_target > 0),
  dues_target    numeric(14,2) not null,
  primary key (terminal_code, quarter)
);
comment on table reference.terminal_target is 'What the board expects of each terminal in a quarter: tonnes handled and dues charged.';
