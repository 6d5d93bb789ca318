import type { MigrationInterface, QueryRunner } from 'typeorm';

/** People are added, disabled and given new passwords; they see their sessions. The log is only added to. */
export class Accounts1764630000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(
      `ALTER TABLE "person" ADD COLUMN "disabled_at" timestamptz, ADD COLUMN "must_change" boolean NOT NULL DEFAULT false,
         ADD COLUMN "last_sign_in_at" timestamptz, ADD COLUMN "link_hash" text UNIQUE, ADD COLUMN "link_ends_at" timestamptz`,
    );
    await runner.query(
      `ALTER TABLE "session" ADD COLUMN "number" uuid NOT NULL DEFAULT gen_random_uuid(), ADD COLUMN "begun_at" timestamptz NOT NULL DEFAULT now(),
         ADD COLUMN "used_at" timestamptz NOT NULL DEFAULT now(), ADD COLUMN "address" text NOT NULL DEFAULT '', ADD COLUMN "agent" text NOT NULL DEFAULT ''`,
    );
    await runner.query(
      `CREATE FUNCTION "audit_is_added_to"() RETURNS trigger LANGUAGE plpgsql AS $$ begin raise exception 'the log is only added to'; end $$`,
    );
    await runner.query(
      `CREATE TRIGGER "audit_is_added_to" BEFORE UPDATE OR DELETE OR TRUNCATE ON "audit" FOR EACH STATEMENT EXECUTE FUNCTION "audit_is_added_to"()`,
    );
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP TRIGGER "audit_is_added_to" ON "audit"`);
    await runner.query(`DROP FUNCTION "audit_is_added_to"()`);
    await runner.query(
      `ALTER TABLE "session" DROP COLUMN "number", DROP COLUMN "begun_at", DROP COLUMN "used_at", DROP COLUMN "address", DROP COLUMN "agent"`,
    );
    await runner.query(
      `ALTER TABLE "person" DROP COLUMN "disabled_at", DROP COLUMN "must_change", DROP COLUMN "last_sign_in_at", DROP COLUMN "link_hash", DROP COLUMN "link_ends_at"`,
    );
  }
}
