import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What each load did, counted by kind. */
export class LoadCounts1764090000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "run_step" ADD "counts" jsonb`);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "run_step" DROP COLUMN "counts"`);
  }
}
