-- The layers of Saltmere's warehouse, in order: a table reads only from its own or earlier ones.
create schema landing;
create schema reference;
create schema staging;
create schema core;
create schema mart;
create schema vault;

comment on schema landing is 'What arrives from the port''s systems, as it is there.';
comment on schema reference is 'Small tables that people keep by hand.';
comment on schema staging is 'Cleaned and renamed, one view for each landing table.';
comment on schema core is 'Vessels, berths, ports, calls and dues as the port agrees on them.';
comment on schema mart is 'What the desks and the board read.';
comment on schema vault is 'Keys, their links and what was said of them, whatever it was.';
