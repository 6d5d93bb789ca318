import { held } from './app.mjs';

export const title = 'locks that a workspace’s SQL takes hold up production';

export async function attack(app) {
  const slug = await app.workspace('Locks');
  for (const volatility of ['volatile', 'stable']) {
    const locks = ['ouvrage swap', 'ouvrage schemas', 'ouvrage functions', 'ouvrage deliveries']
      .map((l) => `perform pg_advisory_lock(hashtext('${l}'));`)
      .join(' ');
    await app.draft(
      slug,
      'functions/evil.sql',
      `create function functions.evil() returns integer language plpgsql ${volatility} as $$ begin ${locks} return 1; end $$;`,
    );
    await app.draft(
      slug,
      'staging/evil.sql',
      'create table staging.evil (n integer) with (load = rebuild);\nselect functions.evil() as n',
    );
    await app.run(slug, ['staging.evil'], { upstream: false, seconds: 20 });
    const ended = await app.intake('landing.port', 20);
    held(ended.state === 'succeeded', `an intake of production is ${ended.state}`);
  }
}
