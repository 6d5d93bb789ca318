import type { MigrationInterface, QueryRunner } from 'typeorm';

const UP = [
  `CREATE TABLE "binding" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "server" text NOT NULL, "environment" text NOT NULL, "connection_id" uuid NOT NULL, CONSTRAINT "UQ_e5978213e2cece7a381371c3645" UNIQUE ("server", "environment"), CONSTRAINT "PK_827323b1b96492d3796f177ee3b" PRIMARY KEY ("id"))`,
  `CREATE TABLE "source_state" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "environment" text NOT NULL, "table_name" text NOT NULL, "drift" jsonb, "compared_at" TIMESTAMP WITH TIME ZONE, "newest" text, "brought_in_at" TIMESTAMP WITH TIME ZONE, CONSTRAINT "UQ_81e8d8d67e32de4009abdb0eb72" UNIQUE ("environment", "table_name"), CONSTRAINT "PK_7350b52e309b4a89990b849a65e" PRIMARY KEY ("id"))`,
  `ALTER TABLE "connection" ADD "name" text`,
  `UPDATE "connection" SET "name" = "server"`,
  `ALTER TABLE "connection" ALTER COLUMN "name" SET NOT NULL`,
  `ALTER TABLE "connection" ADD CONSTRAINT "UQ_40aa09f28e6d4396e448886f6a7" UNIQUE ("name")`,
  `ALTER TABLE "connection" ADD "tls" text NOT NULL DEFAULT 'off'`,
  `INSERT INTO "binding" ("server", "environment", "connection_id") SELECT c."server", e, c."id" FROM "connection" c, unnest(array['production', 'workspaces']) e`,
  `ALTER TABLE "connection" DROP CONSTRAINT "UQ_2e847dbced8000991160a10269f"`,
  `ALTER TABLE "connection" DROP COLUMN "server"`,
  `ALTER TABLE "binding" ADD CONSTRAINT "FK_e02dd87e9f6cb98402a1c119ae5" FOREIGN KEY ("connection_id") REFERENCES "connection"("id") ON DELETE CASCADE ON UPDATE NO ACTION`,
];

const DOWN = [
  `ALTER TABLE "connection" ADD "server" text`,
  `UPDATE "connection" SET "server" = "name"`,
  `ALTER TABLE "connection" ALTER COLUMN "server" SET NOT NULL`,
  `ALTER TABLE "connection" ADD CONSTRAINT "UQ_2e847dbced8000991160a10269f" UNIQUE ("server")`,
  `ALTER TABLE "connection" DROP COLUMN "tls"`,
  `ALTER TABLE "connection" DROP COLUMN "name"`,
  `DROP TABLE "source_state"`,
  `DROP TABLE "binding"`,
];

/** Connections get names, and are bound to the project's servers for each kind of environment. */
export class Bindings1764072000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    for (const statement of UP) await runner.query(statement);
  }

  async down(runner: QueryRunner): Promise<void> {
    for (const statement of DOWN) await runner.query(statement);
  }
}
