import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Files that came into the drop folder. */
export class Deliveries1764079200000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(
      `CREATE TABLE "delivery" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "file" text NOT NULL, "table_name" text, "digest" text NOT NULL, "state" text NOT NULL, "bytes" bigint NOT NULL, "rows" bigint, "rejects" bigint, "reason" text, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), "milliseconds" integer, CONSTRAINT "PK_ffad7bf84e68716cd9af89003b0" PRIMARY KEY ("id"))`,
    );
    await runner.query(`CREATE INDEX "IDX_9eb3fdb136e933c3726888d7b9" ON "delivery"  ("table_name", "digest") `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP INDEX "public"."IDX_9eb3fdb136e933c3726888d7b9"`);
    await runner.query(`DROP TABLE "delivery"`);
  }
}
