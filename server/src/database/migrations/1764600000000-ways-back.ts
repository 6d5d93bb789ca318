import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Ways back: which releases a release withdraws, or a workspace's will. */
export class WaysBack1764600000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    for (const table of ['workspace', 'release'])
      await runner.query(`ALTER TABLE "${table}" ADD COLUMN "withdraws" integer[] NOT NULL DEFAULT '{}'`);
  }

  async down(runner: QueryRunner): Promise<void> {
    for (const table of ['workspace', 'release']) await runner.query(`ALTER TABLE "${table}" DROP COLUMN "withdraws"`);
  }
}
