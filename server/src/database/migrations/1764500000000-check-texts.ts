import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What a check said when it was run: a verdict on another text is none. Verdicts are found by their time. */
export class CheckTexts1764500000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "check_result" ADD "says" text`);
    await runner.query(`CREATE INDEX "check_result_at" ON "check_result" ("environment", "at")`);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP INDEX "check_result_at"`);
    await runner.query(`ALTER TABLE "check_result" DROP COLUMN "says"`);
  }
}
