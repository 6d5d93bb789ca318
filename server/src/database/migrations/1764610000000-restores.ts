import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Ways back by the copies that releases have kept. */
export class Restores1764610000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "workspace" ADD COLUMN "restores" boolean NOT NULL DEFAULT false`);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "workspace" DROP COLUMN "restores"`);
  }
}
