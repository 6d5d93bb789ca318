import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Why a load took the shape that it took, and some rows of each kind that it counted. */
export class LoadNote1764100000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "run_step" ADD "note" text, ADD "kinds" jsonb`);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "run_step" DROP COLUMN "note", DROP COLUMN "kinds"`);
  }
}
