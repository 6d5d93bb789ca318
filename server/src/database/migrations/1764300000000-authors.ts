import type { MigrationInterface, QueryRunner } from 'typeorm';

/** A draft stays with who began it, and all who saved it are its authors, in the commit as well. */
export class Authors1764300000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "draft" ADD "saved_by_id" uuid, ADD "authors" uuid array`);
    await runner.query(`UPDATE "draft" SET "saved_by_id" = "person_id", "authors" = array["person_id"]`);
    await runner.query(
      `ALTER TABLE "draft" ALTER COLUMN "saved_by_id" SET NOT NULL, ALTER COLUMN "authors" SET NOT NULL`,
    );
    await runner.query(
      `ALTER TABLE "draft" ADD CONSTRAINT "FK_b5c9c0e18f33f3c144020fe9572" FOREIGN KEY ("saved_by_id") REFERENCES "person"("id") ON DELETE RESTRICT ON UPDATE NO ACTION`,
    );
    await runner.query(
      `CREATE TABLE "commit_author" ("commit" text NOT NULL, "path" text NOT NULL, "person_id" uuid NOT NULL, CONSTRAINT "PK_c8fe64dc52826f9f83545744a93" PRIMARY KEY ("commit", "path", "person_id"))`,
    );
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`DROP TABLE "commit_author"`);
    await runner.query(`ALTER TABLE "draft" DROP COLUMN "saved_by_id", DROP COLUMN "authors"`);
  }
}
