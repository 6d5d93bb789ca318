import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Times of what happened, as rows are stamped with them. */
const STAMPED = [
  ['run', 'created_at'],
  ['check_result', 'at'],
  ['release', 'at'],
  ['incident', 'opened_at'],
  ['incident_event', 'at'],
  ['watch_lesson', 'at'],
  ['delivery', 'at'],
  ['message', 'at'],
  ['agreement', 'at'],
  ['example_outcome', 'at'],
  ['outbox_entry', 'at'],
  ['workspace', 'created_at'],
  ['draft', 'updated_at'],
] as const;

/** One clock for what happened: the real time and an offset, which is set in the demo alone. */
export class Clock1764560000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(
      `CREATE FUNCTION clock_now() RETURNS timestamptz LANGUAGE sql STABLE AS $$
         SELECT now() + make_interval(secs => coalesce((SELECT (value #>> '{}')::double precision / 1000 FROM public.setting WHERE name = 'clock offset'), 0))
       $$`,
    );
    for (const [table, column] of STAMPED)
      await runner.query(`ALTER TABLE "${table}" ALTER COLUMN "${column}" SET DEFAULT clock_now()`);
  }

  async down(runner: QueryRunner): Promise<void> {
    for (const [table, column] of STAMPED)
      await runner.query(`ALTER TABLE "${table}" ALTER COLUMN "${column}" SET DEFAULT now()`);
    await runner.query('DROP FUNCTION clock_now()');
  }
}
