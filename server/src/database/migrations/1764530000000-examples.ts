import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Outcomes of worked examples. */
export class Examples1764530000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    for (const sql of [
      `CREATE TABLE "example_outcome" ("digest" text NOT NULL, "table_name" text NOT NULL, "name" text NOT NULL, "outcome" jsonb NOT NULL, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), CONSTRAINT "example_outcome_pkey" PRIMARY KEY ("digest"))`,
      `CREATE INDEX "example_outcome_of" ON "example_outcome" ("table_name", "name")`,
    ])
      await runner.query(sql);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP TABLE "example_outcome"`);
  }
}
