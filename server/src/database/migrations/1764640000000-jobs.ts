import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Jobs: until when their starts have been looked for, who paused them, each start with its cause, and which run is of which. */
export class Jobs1764640000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(
      `CREATE TABLE "job_state" ("job" text PRIMARY KEY, "looked_until" timestamptz NOT NULL, "looked_delivery" integer NOT NULL,
         "paused_by" text, "paused_at" timestamptz)`,
    );
    await runner.query(
      `CREATE TABLE "job_start" ("id" integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, "job" text NOT NULL, "cause" text NOT NULL,
         "of" text NOT NULL, "scheduled_at" timestamptz NOT NULL, "due_at" timestamptz NOT NULL, "state" text NOT NULL, "reason" text,
         "attempt" integer NOT NULL DEFAULT 1, "person" text, "run_id" integer, "at" timestamptz NOT NULL DEFAULT clock_now())`,
    );
    // Of two servers that find the same reason to start, one starts.
    await runner.query(`CREATE UNIQUE INDEX "job_start_once" ON "job_start" ("job", "cause", "of")`);
    await runner.query(`CREATE INDEX "job_start_open" ON "job_start" ("id") WHERE "state" IN ('waiting', 'started')`);
    await runner.query(`CREATE INDEX "job_start_of_job" ON "job_start" ("job", "id")`);
    await runner.query(`ALTER TABLE "run" ADD COLUMN "job" text, ADD COLUMN "job_start" integer`);
    await runner.query(`CREATE INDEX "run_job_start" ON "run" ("job_start") WHERE "job_start" IS NOT NULL`);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "run" DROP COLUMN "job", DROP COLUMN "job_start"`);
    await runner.query(`DROP TABLE "job_start"`);
    await runner.query(`DROP TABLE "job_state"`);
  }
}
