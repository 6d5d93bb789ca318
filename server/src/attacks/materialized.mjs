import { held } from './app.mjs';

export const title = 'a workspace’s materialized view over production is made again as the production builder';

export async function attack(app) {
  const slug = await app.workspace('Materialized');
  const { prefix } = (await (await app.as('jonas')).get('/api/workspaces')).body.find((w) => w.slug === slug);
  const made = `create or replace function ${prefix}_staging.who() returns text language plpgsql as $f$ begin return current_user::text; end $f$`;
  const view = `create materialized view ${prefix}_staging.spy as select ${prefix}_staging.who() as who, port_code from landing.port`;
  for (const volatility of ['volatile', 'stable']) {
    await app.draft(
      slug,
      'functions/evil.sql',
      `create function functions.evil() returns integer language plpgsql ${volatility} as $body$ begin execute $x$${made}$x$; execute $x$${view}$x$; execute 'grant select on ${prefix}_staging.spy to public'; return 1; end $body$;`,
    );
    await app.draft(
      slug,
      'staging/evil.sql',
      'create table staging.evil (n integer) with (load = rebuild);\nselect functions.evil() as n',
    );
    await app.run(slug, ['staging.evil'], { upstream: false });
  }
  await app.intake('landing.port');
  const [[there]] = await app.rows(`select coalesce(to_regclass('${prefix}_staging.spy')::text, 'no')`);
  if (there === 'no') return;
  const [[who]] = await app.rows(
    `select query_to_xml('select distinct who from ${prefix}_staging.spy', true, false, '')::text as x`,
  );
  held(!who.includes('ouvrage_production'), 'the workspace’s function ran as the production builder');
}
