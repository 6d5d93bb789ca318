import { held } from './app.mjs';

export const title = 'a definition’s query deletes another table’s rows';

export async function attack(app) {
  const slug = await app.workspace('Eats');
  const { prefix } = (await (await app.as('jonas')).get('/api/workspaces')).body.find((w) => w.slug === slug);
  await app.draft(
    slug,
    'staging/keep.sql',
    'create table staging.keep as select n from generate_series(1, 10) as s (n)',
  );
  await app.run(slug, ['staging.keep']);
  await app.draft(
    slug,
    'staging/eat.sql',
    'create table staging.eat as with gone as (delete from staging.keep where n > 3 returning n) select n from gone',
  );
  await app.run(slug, ['staging.eat'], { upstream: false });
  const [[left]] = await app.rows(
    `select query_to_xml('select count(*) as n from ${prefix}_staging.keep', true, false, '')::text as x`,
    // Viewers have rights only to what is read for them by its name.
    'jonas',
  );
  held(left.includes('<n>10</n>'), `of 10 rows are left: ${left.replace(/\s+/g, ' ')}`);
}
