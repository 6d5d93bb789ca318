import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Workspaces are shared; those that there are stay everybody's, as they were. */
export class Sharing1764590000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(
      `ALTER TABLE "workspace" ADD COLUMN "shared_with" uuid[] NOT NULL DEFAULT '{}', ADD COLUMN "shared_with_all" boolean NOT NULL DEFAULT true`,
    );
    await runner.query(`ALTER TABLE "workspace" ALTER COLUMN "shared_with_all" SET DEFAULT false`);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "workspace" DROP COLUMN "shared_with", DROP COLUMN "shared_with_all"`);
  }
}
