-- Files that neighbours deliver each day into the drop folder.
create server drop_folder foreign data wrapper file_fdw;

create foreign table landing.berth_rate (
  berth_code text not null,
  rate       numeric(8,2) not null,
  charged    text,
  as_of      date not null
) server drop_folder options (pattern 'berth_rates_{as_of:date}.csv', watermark 'as_of', late_after '48 hours', then_run 'core.berth_rate');

create foreign table landing.tide (
  tide_at  timestamptz not null,
  height_m numeric(5,2) not null,
  day      date not null
) server drop_folder options (pattern 'tide_table_{day:date}.csv');

create foreign table landing.manifest (
  line_id    bigint not null,
  call_no    text,
  goods_code text,
  tonnes     numeric(12,2),
  marks      jsonb,
  day        date not null
) server drop_folder options (pattern 'manifest_{day:date}.jsonl', bad_rows 'set aside');

create foreign table landing.weather (
  read_at timestamptz not null,
  wind_ms double precision,
  gusts   integer,
  day     date not null
) server drop_folder options (pattern 'weather_{day:date}.parquet');

comment on foreign table landing.berth_rate is 'What lying at a berth costs, a full copy a day.';
comment on foreign table landing.tide is 'High and low water.';
comment on foreign table landing.manifest is 'Cargo as its shippers declare it.';
comment on foreign table landing.weather is 'Wind at the pier head.';
