import { held } from './app.mjs';

export const title = 'a workspace’s SQL makes schemas: the builder’s own name, a layer to come';

const evil = (volatility, statement) =>
  `create function functions.evil() returns integer language plpgsql ${volatility} as $$ begin execute '${statement.replaceAll("'", "''")}'; return 1; end $$;`;

export async function attack(app) {
  for (const [n, volatility] of ['volatile', 'stable', ''].entries()) {
    const slug = await app.workspace(`Schemas ${n}`);
    for (const name of ['ouvrage_production', 'finance']) {
      await app.draft(slug, 'functions/evil.sql', evil(volatility, `create schema if not exists ${name}`));
      await app.draft(slug, 'staging/evil.sql', 'create table staging.evil as select functions.evil() as n');
      await app.run(slug, ['staging.evil'], { upstream: false });
      await (
        await app.as('jonas')
      ).send('POST', `/api/workspaces/${slug}/preview`, {
        path: 'staging/evil.sql',
        text: 'select functions.evil() as n',
        limit: 1,
      });
    }
  }
  const rows = await app.rows(
    "select nspname::text from pg_namespace where nspname in ('ouvrage_production', 'finance')",
  );
  held(rows.length === 0, `made: ${rows.flat().join(', ')}`);
}
