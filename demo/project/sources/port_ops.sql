-- The harbour's operational database.
create server port_ops foreign data wrapper postgres_fdw;

create foreign table landing.terminal (
  terminal_code text not null,
  terminal_name text,
  primary key (terminal_code)
) server port_ops options (schema_name 'ops', table_name 'terminals', intake 'full');

create foreign table landing.port (
  port_code text not null,
  port_name text,
  flag_code text,
  primary key (port_code)
) server port_ops options (schema_name 'ops', table_name 'ports', intake 'full');

create foreign table landing.owner (
  owner_id   integer not null,
  owner_name text options (sensitive 'personal'),
  flag_code  text,
  primary key (owner_id)
) server port_ops options (schema_name 'ops', table_name 'owners', intake 'full');

create foreign table landing.berth (
  berth_id      integer options (column_name 'BerthID') not null,
  terminal_code text,
  berth_code    text,
  berth_name    text,
  length_m      numeric(6,1),
  depth_m       numeric(4,1),
  changed_at    timestamptz,
  primary key (berth_id),
  foreign key (terminal_code) references landing.terminal (terminal_code)
) server port_ops options (schema_name 'ops', table_name 'berths', intake 'full');

create foreign table landing.vessel (
  hull_no     text not null,
  vessel_name text,
  flag        text,
  gross_t     numeric,
  owner_id    integer,
  built_on    date,
  scrapped_on date,
  changed_at  timestamptz,
  primary key (hull_no),
  foreign key (owner_id) references landing.owner (owner_id)
) server port_ops options (schema_name 'ops', table_name 'vessels', intake 'incremental', watermark 'changed_at', look_back '1 day', late_after '36 hours');

-- The system has no key on calls: a call can arrive twice.
create foreign table landing.call (
  call_no      text not null,
  hull_no      text,
  berth_code   text,
  from_port    text,
  to_port      text,
  status       text,
  announced_at timestamptz,
  arrived_at   timestamptz,
  departed_at  timestamptz,
  tonnage      numeric(12,2),
  changed_at   timestamptz,
  foreign key (hull_no) references landing.vessel (hull_no)
) server port_ops options (schema_name 'ops', table_name 'calls', intake 'full', watermark 'changed_at', late_after '36 hours');

create foreign table landing.cargo_line (
  line_id    bigint not null,
  call_no    text,
  line_no    integer,
  goods_code text,
  direction  text,
  tonnes     numeric(12,2),
  primary key (line_id)
) server port_ops options (schema_name 'ops', table_name 'cargo_lines', intake 'incremental', watermark 'line_id');

create foreign table landing.dues_invoice (
  invoice_id  bigint not null,
  invoice_no  text,
  call_no     text,
  invoiced_on date,
  amount      money,
  changed_at  timestamptz,
  primary key (invoice_id)
) server port_ops options (schema_name 'ops', table_name 'dues_invoices', intake 'incremental', watermark 'changed_at', late_after '36 hours');

create foreign table landing.payment (
  payment_id bigint not null,
  invoice_id bigint,
  paid_on    date,
  amount     money,
  primary key (payment_id),
  foreign key (invoice_id) references landing.dues_invoice (invoice_id)
) server port_ops options (schema_name 'ops', table_name 'payments', intake 'incremental', watermark 'payment_id');

comment on foreign table landing.vessel is 'The register of vessels, one row a hull.';
comment on foreign table landing.call is 'Calls at the port: announced, arrived, departed or cancelled.';
comment on foreign table landing.berth is 'Places where a vessel can lie.';
comment on foreign table landing.dues_invoice is 'What was charged for a call.';
