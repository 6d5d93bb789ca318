import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Where each delivered file was put away. */
export class DeliveryKept1764400000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "delivery" ADD "kept" text`);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "delivery" DROP COLUMN "kept"`);
  }
}
