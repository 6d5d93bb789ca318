/** A type's key: its name in pg_catalog, `schema.name` elsewhere. */
const KEY = (t) =>
  `(select case when kn.nspname = 'pg_catalog' then kt.typname else kn.nspname || '.' || kt.typname end from pg_type kt join pg_namespace kn on kn.oid = kt.typnamespace where kt.oid = ${t})`;
const NONE = "'-'";

/**
 * The lines of a server's catalogs that core reads (`core/src/catalog/catalog.ts` tells their forms).
 * @param where a condition over the schema `n` of what is asked for
 * @returns version, types, casts, operators and functions, each a list of lines
 */
export async function catalogLines(client, where, { added = false } = {}) {
  // What is added to a server has numbers from there on.
  const own = (oid) => (added ? `${oid} >= 16384` : 'true');
  const rows = async (sql) => (await client.query({ text: sql, rowMode: 'array' })).rows.map(([line]) => line);
  const types = await rows(`
    select concat_ws(' ', ${KEY('t.oid')}, t.typcategory::text || case when t.typispreferred then '!' else '' end, t.typtype::text,
      case when t.typelem = 0 or t.typsubscript = 0 then ${NONE} else ${KEY('t.typelem')} end,
      case when t.typarray = 0 then ${NONE} else ${KEY('t.typarray')} end,
      coalesce(case t.typtype when 'd' then ${KEY('t.typbasetype')}
        when 'r' then (select ${KEY('r.rngsubtype')} || ',' || ${KEY('r.rngmultitypid')} from pg_range r where r.rngtypid = t.oid)
        when 'm' then (select ${KEY('r.rngtypid')} from pg_range r where r.rngmultitypid = t.oid) end, ${NONE}),
      case when t.typtype = 'd' and t.typtypmod <> -1 then substring(format_type(t.typbasetype, t.typtypmod) from '\\([^)]*\\)') end)
    from pg_type t join pg_namespace n on n.oid = t.typnamespace
    where ${where} and ${own('t.oid')} and (t.typtype <> 'c' or n.nspname <> 'pg_catalog') and (t.typelem = 0 or not exists (select from pg_type e where e.oid = t.typelem and e.typtype = 'c' and n.nspname = 'pg_catalog'))
    order by t.oid`);
  const casts = await rows(`
    select concat_ws(' ', ${KEY('c.castsource')}, ${KEY('c.casttarget')}, c.castcontext::text, c.castmethod::text)
    from pg_cast c join pg_type t on t.oid = c.castsource join pg_type u on u.oid = c.casttarget
      join pg_namespace n on n.oid in (t.typnamespace, u.typnamespace) where ${added ? own('c.oid') : where} group by c.oid, c.castsource, c.casttarget, c.castcontext, c.castmethod order by c.oid`);
  const operators = await rows(`
    select concat_ws(' ', o.oprname, case when o.oprleft = 0 then ${NONE} else ${KEY('o.oprleft')} end, ${KEY('o.oprright')}, ${KEY('o.oprresult')})
    from pg_operator o join pg_namespace n on n.oid = o.oprnamespace where ${added ? own('o.oid') : where} and o.oprresult <> 0 order by o.oid`);
  const functions = await rows(`
    select concat_ws(' ', case when n.nspname = 'pg_catalog' then p.proname else n.nspname || '.' || p.proname end,
      p.prokind::text || case when p.proretset then '*' else '' end || case when p.provariadic <> 0 then 'v' else '' end
        || case when p.pronargdefaults > 0 then p.pronargdefaults::text else '' end,
      coalesce((select string_agg(${KEY('a.t')} || coalesce(':' || nullif(given.names[a.i], ''), ''), ',' order by a.i)
        from unnest(p.proargtypes) with ordinality a(t, i)), ${NONE}),
      ${KEY('p.prorettype')},
      (select string_agg(coalesce(p.proargnames[m.i], '') || ':' || ${KEY('p.proallargtypes[m.i]')}, ',' order by m.i)
        from unnest(p.proargmodes) with ordinality m(m, i) where m.m in ('o', 'b', 't')))
    from pg_proc p join pg_namespace n on n.oid = p.pronamespace
      left join lateral (select array_agg(p.proargnames[m.i] order by m.i) as names
        from unnest(coalesce(p.proargmodes, array_fill('i'::"char", array[p.pronargs::integer]))) with ordinality m(m, i)
        where m.m in ('i', 'b', 'v')) given on true
    where ${where} and ${own('p.oid')} and p.prokind <> 'p' and (n.nspname <> 'pg_catalog' or not exists (select from pg_type rt where rt.oid = p.prorettype and rt.typname in ('trigger', 'event_trigger', 'language_handler', 'fdw_handler', 'index_am_handler', 'tsm_handler', 'table_am_handler'))
      and not p.proargtypes::oid[] && array['internal'::regtype::oid])
    order by p.oid`);
  const [{ version }] = (await client.query('select version()')).rows;
  return { version: version.replace(/ \(.*/, ''), types, casts, operators, functions };
}
