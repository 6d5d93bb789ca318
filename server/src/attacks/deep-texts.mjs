import { held } from './app.mjs';

export const title = 'drafts that are nested deep, or take long to read';

const TEXTS = {
  'chained operators': `select ${Array(5000).fill("'a'").join(' || ')} as x`,
  'arms of a union': Array(3000).fill('select 1 as a').join('\nunion all '),
  'nested subqueries': `${'select * from ('.repeat(600)}select 1 as a${') as q'.repeat(600)}`,
  'nested cases': `select ${'case when true then '.repeat(800)}1${' end'.repeat(800)} as a`,
  'items of FROM': `select 1 as a from ${Array.from({ length: 400 }, (_, i) => `staging.port p${i}`).join(', ')}`,
  'joins of joins': `select 1 as a from staging.port p0${Array.from({ length: 60 }, (_, i) => ` join staging.port p${i + 1} on p${i + 1}.port_code = p${i}.port_code`).join('')}`,
  signs: `select ${'+'.repeat(200_000)}1 as a`,
  brackets: `select ${'('.repeat(100_000)}1${')'.repeat(100_000)} as a`,
  'a long list': `select 1 as a where 1 in (${Array(200_000).fill('1').join(',')})`,
  'many conditions': `select 1 as a where ${Array(100_000).fill('true').join(' and ')}`,
  'unknown columns': `select ${Array.from({ length: 1000 }, (_, i) => `no_such_${i}`).join(', ')} from staging.port`,
  'missing tables': Array.from({ length: 900 }, (_, i) => `select n from staging.no_such_${i}`).join(' union all '),
};

/** What a request needs beside the file. */
const MORE = { preview: { limit: 1 }, plan: { analyze: false } };

export async function attack(app) {
  const jonas = await app.as('jonas');
  await app.watched(async () => {
    for (const [what, text] of Object.entries(TEXTS)) {
      const slug = await app.workspace(`Deep ${what}`);
      const kept = await app.draft(slug, 'staging/deep.sql', text);
      held(kept.status === 200, `${what}: the draft answers ${kept.status}`);
      for (const where of ['files', 'state', 'today', 'comparison', 'sources']) {
        const { status } = await jonas.get(`/api/workspaces/${slug}/${where}`, { timeout: 60_000 });
        held(status === 200, `${what}: ${where} answers ${status}`);
      }
      for (const where of ['describe', 'validate', 'preview', 'anatomy', 'plan']) {
        const { status } = await jonas.send(
          'POST',
          `/api/workspaces/${slug}/${where}`,
          { path: 'staging/deep.sql', text, ...MORE[where] },
          { timeout: 90_000 },
        );
        held(status < 500, `${what}: ${where} answers ${status}`);
      }
    }
  });
}
