import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What the limiter of sign-ins counts, as its library reads and writes it: expiry in milliseconds since 1970. */
export class SignInAttempts1764300100000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(
      `CREATE TABLE "sign_in_attempt" ("key" varchar(255) PRIMARY KEY, "points" integer NOT NULL DEFAULT 0, "expire" bigint)`,
    );
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP TABLE "sign_in_attempt"`);
  }
}
