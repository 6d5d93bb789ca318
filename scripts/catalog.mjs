import { createRequire } from 'node:module';
import { writeFileSync } from 'node:fs';
import path from 'node:path';
import { parseArgs } from 'node:util';
import { readConfig } from './lib/cluster.mjs';
import { catalogLines } from './lib/catalog.mjs';
import { main, Plain, ROOT, say } from './lib/shell.mjs';

/**
 * `node scripts/catalog.mjs [--data FOLDER]`: writes down the types, casts, operators and functions of a running
 * PostgreSQL 15 as `core/src/catalog/postgresql.ts`, from which core knows the types of expressions.
 */
const { values } = parseArgs({ options: { data: { type: 'string', default: path.join(ROOT, '.data') } } });

await main(async () => {
  const config = readConfig(values.data);
  if (!config) throw new Plain(`${values.data} has no cluster: start the application first`);
  const pg = createRequire(path.join(ROOT, 'server/package.json'))('pg');
  const client = new pg.Client({
    host: '127.0.0.1',
    port: config.postgresPort,
    user: 'postgres',
    password: config.passwords.postgres,
    database: 'template1',
  });
  await client.connect();
  try {
    const lines = await catalogLines(client, "n.nspname = 'pg_catalog'");
    const file = path.join(ROOT, 'core/src/catalog/postgresql.ts');
    const text = (name) => `export const ${name} = String.raw\`\n${lines[name.toLowerCase()].join('\n')}\n\`;\n`;
    writeFileSync(
      file,
      `// Written by scripts/catalog.mjs from ${lines.version}. The forms of the lines are told in catalog.ts.\n\n` +
        ['TYPES', 'CASTS', 'OPERATORS', 'FUNCTIONS'].map(text).join('\n'),
    );
    say(
      `${path.relative(ROOT, file)}: ${['types', 'casts', 'operators', 'functions'].map((k) => `${lines[k].length} ${k}`).join(', ')}`,
    );
  } finally {
    await client.end();
  }
});
