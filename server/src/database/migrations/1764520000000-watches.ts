import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Measures of tables after their loads, and what watches were taught. */
export class Watches1764520000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    for (const sql of [
      `CREATE TABLE "measurement" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "table_name" text NOT NULL, "run_id" integer NOT NULL, "at" TIMESTAMP WITH TIME ZONE NOT NULL, "is_sampled" boolean NOT NULL, "values" jsonb NOT NULL, "judged" jsonb NOT NULL, "finding" text, CONSTRAINT "measurement_pkey" PRIMARY KEY ("id"))`,
      `CREATE INDEX "measurement_of" ON "measurement" ("table_name", "id")`,
      `CREATE UNIQUE INDEX "measurement_once" ON "measurement" ("run_id", "table_name")`,
      `CREATE TABLE "watch_lesson" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "table_name" text NOT NULL, "measure" text, "kind" text NOT NULL, "until" TIMESTAMP WITH TIME ZONE, "person" text NOT NULL, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), CONSTRAINT "watch_lesson_pkey" PRIMARY KEY ("id"))`,
      `CREATE INDEX "watch_lesson_of" ON "watch_lesson" ("table_name")`,
    ])
      await runner.query(sql);
  }

  async down(runner: QueryRunner): Promise<void> {
    for (const table of ['watch_lesson', 'measurement']) await runner.query(`DROP TABLE "${table}"`);
  }
}
