/** Definitions of about 15 lines in five layers, each reading two of the layer before. */
export function generated(count) {
  const files = new Map([
    ['layers.sql', 'create schema landing; create schema staging; create schema core; create schema mart;'],
  ]);
  const sources = Math.max(4, Math.round(count / 10));
  let text = 'create server s foreign data wrapper postgres_fdw;\n';
  for (let i = 0; i < sources; i++)
    text += `create foreign table landing.t${i} (id bigint not null, code text, amount numeric(12,2), changed_at timestamptz, primary key (id)) server s;\n`;
  files.set('sources/s.sql', text);
  const layers = ['staging', 'core', 'mart'];
  const per = Math.round(count / 3);
  layers.forEach((layer, l) => {
    for (let i = 0; i < per; i++) {
      const from = l === 0 ? 'landing' : layers[l - 1];
      const size = l === 0 ? sources : per;
      files.set(
        `${layer}/t${i}.sql`,
        `-- table ${i} of ${layer}
create table ${layer}.t${i} (
  id bigint primary key,
  code text not null,
  amount numeric(12,2) check (amount >= 0),
  changed_at timestamptz
) with (load = rebuild, owner = 'desk');
comment on table ${layer}.t${i} is 'Generated.';
with latest as (
  select id, max(changed_at) as changed_at from ${from}.t${(i + 1) % size} group by id
)
select a.id, trim(a.code) as code,
       case when a.amount > 0 then a.amount else 0 end as amount,
       coalesce(l.changed_at, a.changed_at) as changed_at
from ${from}.t${i % size} a
left join latest l on l.id = a.id
where a.code is not null;
`,
      );
    }
  });
  return files;
}
