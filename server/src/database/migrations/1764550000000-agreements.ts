import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Agreements of people to checks and contracts. */
export class Agreements1764550000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    for (const sql of [
      `CREATE TABLE "agreement" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "kind" text NOT NULL, "subject" text NOT NULL, "digest" text NOT NULL, "person" text NOT NULL, "desk" text, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), CONSTRAINT "agreement_pkey" PRIMARY KEY ("id"))`,
      `CREATE UNIQUE INDEX "agreement_once" ON "agreement" ("kind", "subject", "person")`,
    ])
      await runner.query(sql);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP TABLE "agreement"`);
  }
}
