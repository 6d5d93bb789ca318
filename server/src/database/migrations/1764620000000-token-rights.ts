import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Access tokens have rights and an end. Those that were there are for git, and end 90 days from now. */
export class TokenRights1764620000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(
      `ALTER TABLE "access_token" ADD COLUMN "rights" text[] NOT NULL DEFAULT '{read,write}', ADD COLUMN "expires_at" timestamptz NOT NULL DEFAULT now() + interval '90 days'`,
    );
    await runner.query(
      `ALTER TABLE "access_token" ALTER COLUMN "rights" DROP DEFAULT, ALTER COLUMN "expires_at" DROP DEFAULT`,
    );
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "access_token" DROP COLUMN "rights", DROP COLUMN "expires_at"`);
  }
}
