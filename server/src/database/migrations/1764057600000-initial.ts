import type { MigrationInterface, QueryRunner } from 'typeorm';

const UP = [
  `CREATE TABLE "person" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "name" text NOT NULL, "display_name" text NOT NULL, "password_hash" text NOT NULL, "role" text NOT NULL, "created_at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), CONSTRAINT "UQ_27c811883af9f3fefe79892f02b" UNIQUE ("name"), CONSTRAINT "PK_5fdaf670315c4b7e70cce85daa3" PRIMARY KEY ("id"))`,
  `CREATE TABLE "session" ("id" text NOT NULL, "csrf" text NOT NULL, "expires_at" TIMESTAMP WITH TIME ZONE NOT NULL, "person_id" uuid NOT NULL, CONSTRAINT "PK_f55da76ac1c3ac420f444d2ff11" PRIMARY KEY ("id"))`,
  `CREATE INDEX "IDX_2223e981900a413ce4ce6386f9" ON "session"  ("expires_at") `,
  `CREATE TABLE "access_token" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "label" text NOT NULL, "hash" text NOT NULL, "created_at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), "last_used_at" TIMESTAMP WITH TIME ZONE, "person_id" uuid NOT NULL, CONSTRAINT "UQ_64c327441248bae40f7d92f34f3" UNIQUE ("hash"), CONSTRAINT "PK_f20f028607b2603deabd8182d12" PRIMARY KEY ("id"))`,
  `CREATE TABLE "audit" ("id" bigint GENERATED ALWAYS AS IDENTITY NOT NULL, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), "person" text NOT NULL, "action" text NOT NULL, "subject" text NOT NULL, "detail" jsonb, CONSTRAINT "PK_1d3d120ddaf7bc9b1ed68ed463a" PRIMARY KEY ("id"))`,
  `CREATE TABLE "workspace" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "slug" text NOT NULL, "name" text NOT NULL, "prefix" text NOT NULL, "created_at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), "closed_at" TIMESTAMP WITH TIME ZONE, "owner_id" uuid NOT NULL, CONSTRAINT "UQ_0d706c438a9b1ae0ac9806a201a" UNIQUE ("slug"), CONSTRAINT "UQ_6348f7227e491afd3f2bad3e351" UNIQUE ("prefix"), CONSTRAINT "PK_ca86b6f9b3be5fe26d307d09b49" PRIMARY KEY ("id"))`,
  `CREATE TABLE "draft" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "path" text NOT NULL, "text" text, "base_blob" text, "version" integer NOT NULL, "updated_at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), "workspace_id" uuid NOT NULL, "person_id" uuid NOT NULL, CONSTRAINT "UQ_23776d4de562e45fb7137376c98" UNIQUE ("workspace_id", "path"), CONSTRAINT "PK_0b2b03d3f2c998450423648bc65" PRIMARY KEY ("id"))`,
  `CREATE TABLE "run" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "kind" text NOT NULL, "environment" text NOT NULL, "commit" text NOT NULL, "state" text NOT NULL, "person" text NOT NULL, "request" jsonb NOT NULL, "error" text, "continues" integer, "stop_asked" boolean NOT NULL DEFAULT false, "created_at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), "started_at" TIMESTAMP WITH TIME ZONE, "finished_at" TIMESTAMP WITH TIME ZONE, CONSTRAINT "PK_804c38ffba92002c6d2c646dd46" PRIMARY KEY ("id"))`,
  `CREATE INDEX "IDX_c60694713a36923235adb52b02" ON "run"  ("environment") `,
  `CREATE TABLE "run_step" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "kind" text NOT NULL, "table_name" text NOT NULL, "position" integer NOT NULL, "state" text NOT NULL, "waits_for" jsonb NOT NULL, "rows_out" bigint, "rows_in" bigint, "statements" jsonb NOT NULL DEFAULT '[]', "error" jsonb, "started_at" TIMESTAMP WITH TIME ZONE, "finished_at" TIMESTAMP WITH TIME ZONE, "run_id" integer NOT NULL, CONSTRAINT "PK_35db61289b1cd881ddc7b8c7ed9" PRIMARY KEY ("id"))`,
  `CREATE INDEX "IDX_559d5b6abf35bb83a02e34d7c1" ON "run_step"  ("run_id") `,
  `CREATE INDEX "IDX_55b99fd422cf64b9328b10dd59" ON "run_step"  ("table_name", "finished_at") `,
  `CREATE TABLE "check_result" ("id" bigint GENERATED ALWAYS AS IDENTITY NOT NULL, "environment" text NOT NULL, "check_id" text NOT NULL, "table_name" text NOT NULL, "verdict" text NOT NULL, "at_fault" bigint, "total" bigint, "sql" text NOT NULL, "rows" jsonb, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), "step_id" integer NOT NULL, CONSTRAINT "PK_15b8e86b94d18989428912dede5" PRIMARY KEY ("id"))`,
  `CREATE INDEX "IDX_80f5e305abf54bdaf35d302306" ON "check_result"  ("step_id") `,
  `CREATE INDEX "IDX_a7c98d31fa2b204955b5385b35" ON "check_result"  ("environment", "check_id", "at") `,
  `CREATE TABLE "release" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "commit" text NOT NULL, "commit_before" text, "workspace" text NOT NULL, "message" text NOT NULL, "person" text NOT NULL, "tables" jsonb NOT NULL, "run_id" integer NOT NULL, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), CONSTRAINT "PK_1a2253436964eea9c558f9464f4" PRIMARY KEY ("id"))`,
  `CREATE TABLE "connection" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "server" text NOT NULL, "host" text NOT NULL, "port" integer NOT NULL, "database" text NOT NULL, "user_name" text NOT NULL, "secret" text NOT NULL, CONSTRAINT "UQ_2e847dbced8000991160a10269f" UNIQUE ("server"), CONSTRAINT "PK_be611ce8b8cf439091c82a334b2" PRIMARY KEY ("id"))`,
  `CREATE TABLE "setting" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "name" text NOT NULL, "value" jsonb NOT NULL, CONSTRAINT "UQ_27923d152bbf82683ab795d5476" UNIQUE ("name"), CONSTRAINT "PK_fcb21187dc6094e24a48f677bed" PRIMARY KEY ("id"))`,
  `ALTER TABLE "session" ADD CONSTRAINT "FK_5c6e00902a1344d01a8d90f33cf" FOREIGN KEY ("person_id") REFERENCES "person"("id") ON DELETE CASCADE ON UPDATE NO ACTION`,
  `ALTER TABLE "access_token" ADD CONSTRAINT "FK_b4860c04a53ead3c2ddbd9485f4" FOREIGN KEY ("person_id") REFERENCES "person"("id") ON DELETE CASCADE ON UPDATE NO ACTION`,
  `ALTER TABLE "workspace" ADD CONSTRAINT "FK_988cf8ee530a5f8a2d56269955b" FOREIGN KEY ("owner_id") REFERENCES "person"("id") ON DELETE RESTRICT ON UPDATE NO ACTION`,
  `ALTER TABLE "draft" ADD CONSTRAINT "FK_74c2b63abfbca1642824d2d2fe6" FOREIGN KEY ("workspace_id") REFERENCES "workspace"("id") ON DELETE CASCADE ON UPDATE NO ACTION`,
  `ALTER TABLE "draft" ADD CONSTRAINT "FK_c9528ee5c1589518438146c740a" FOREIGN KEY ("person_id") REFERENCES "person"("id") ON DELETE RESTRICT ON UPDATE NO ACTION`,
  `ALTER TABLE "run_step" ADD CONSTRAINT "FK_559d5b6abf35bb83a02e34d7c13" FOREIGN KEY ("run_id") REFERENCES "run"("id") ON DELETE CASCADE ON UPDATE NO ACTION`,
  `ALTER TABLE "check_result" ADD CONSTRAINT "FK_80f5e305abf54bdaf35d3023063" FOREIGN KEY ("step_id") REFERENCES "run_step"("id") ON DELETE CASCADE ON UPDATE NO ACTION`,
];

const DOWN = [
  `ALTER TABLE "check_result" DROP CONSTRAINT "FK_80f5e305abf54bdaf35d3023063"`,
  `ALTER TABLE "run_step" DROP CONSTRAINT "FK_559d5b6abf35bb83a02e34d7c13"`,
  `ALTER TABLE "draft" DROP CONSTRAINT "FK_c9528ee5c1589518438146c740a"`,
  `ALTER TABLE "draft" DROP CONSTRAINT "FK_74c2b63abfbca1642824d2d2fe6"`,
  `ALTER TABLE "workspace" DROP CONSTRAINT "FK_988cf8ee530a5f8a2d56269955b"`,
  `ALTER TABLE "access_token" DROP CONSTRAINT "FK_b4860c04a53ead3c2ddbd9485f4"`,
  `ALTER TABLE "session" DROP CONSTRAINT "FK_5c6e00902a1344d01a8d90f33cf"`,
  `DROP TABLE "setting"`,
  `DROP TABLE "connection"`,
  `DROP TABLE "release"`,
  `DROP INDEX "public"."IDX_a7c98d31fa2b204955b5385b35"`,
  `DROP INDEX "public"."IDX_80f5e305abf54bdaf35d302306"`,
  `DROP TABLE "check_result"`,
  `DROP INDEX "public"."IDX_55b99fd422cf64b9328b10dd59"`,
  `DROP INDEX "public"."IDX_559d5b6abf35bb83a02e34d7c1"`,
  `DROP TABLE "run_step"`,
  `DROP INDEX "public"."IDX_c60694713a36923235adb52b02"`,
  `DROP TABLE "run"`,
  `DROP TABLE "draft"`,
  `DROP TABLE "workspace"`,
  `DROP TABLE "audit"`,
  `DROP TABLE "access_token"`,
  `DROP INDEX "public"."IDX_2223e981900a413ce4ce6386f9"`,
  `DROP TABLE "session"`,
  `DROP TABLE "person"`,
];

/** The first schema: people, workspaces and drafts, runs and their checks, releases. */
export class Initial1764057600000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    for (const statement of UP) await runner.query(statement);
  }

  async down(runner: QueryRunner): Promise<void> {
    for (const statement of DOWN) await runner.query(statement);
  }
}
