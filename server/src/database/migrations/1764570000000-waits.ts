import type { MigrationInterface, QueryRunner } from 'typeorm';

/** How long a source's rows are usually waited for is learned from the waits of each day. */
export class Waits1764570000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "source_state" ADD COLUMN "waits" jsonb NOT NULL DEFAULT '[]'`);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('ALTER TABLE "source_state" DROP COLUMN "waits"');
  }
}
