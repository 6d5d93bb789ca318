import { planIntake } from '@ouvrage/core/intake';
import type { Environment, SourceTable } from '@ouvrage/core/model';
import { ident, idents, literal, qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import type { Loader } from '../load/loader.js';

/** An empty landing table beside, with the rows of the one in place as far as it has the same columns. */
export async function stagedLanding(
  client: pg.ClientBase,
  loader: Loader,
  environment: Environment,
  table: SourceTable,
) {
  const { build, staged, target, finish } = planIntake(environment, table);
  await loader.run({ kind: 'build', sql: build });
  const { rows } = await client.query<{ name: string }>(
    `select attname as name from pg_attribute where attrelid = to_regclass(${literal(qualified(target))}) and attnum > 0 and not attisdropped`,
  );
  const common = table.contract.columns.filter((c) => rows.some((r) => r.name === c.name));
  if (common.length) {
    const names = idents(common.map((c) => c.name));
    await loader.run({
      kind: 'build',
      sql: `insert into ${qualified(staged)} (${names}) select ${common.map((c) => `cast(${ident(c.name)} as ${c.type})`).join(', ')} from ${qualified(target)}`,
    });
  }
  for (const statement of finish) await loader.run(statement);
  return { target, staged, relation: 'table' as const };
}
