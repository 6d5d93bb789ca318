import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What a check said when it was run: a verdict on another text is none. */
export class CheckTexts1764500000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "check_result" ADD "says" text`);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "check_result" DROP COLUMN "says"`);
  }
}
