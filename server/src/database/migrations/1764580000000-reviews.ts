import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Reviews: who wrote what, verdicts, remarks, and what of them belongs to each release. */
export class Reviews1764580000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    for (const sql of [
      `CREATE TABLE "branch_writer" ("workspace_id" uuid NOT NULL REFERENCES "workspace" ON DELETE CASCADE, "person_id" uuid NOT NULL REFERENCES "person" ON DELETE CASCADE, "at" TIMESTAMP WITH TIME ZONE NOT NULL, CONSTRAINT "branch_writer_pkey" PRIMARY KEY ("workspace_id", "person_id"))`,
      `CREATE TABLE "push" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "person_id" uuid NOT NULL REFERENCES "person" ON DELETE CASCADE, "branches" jsonb NOT NULL, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT clock_now(), CONSTRAINT "push_pkey" PRIMARY KEY ("id"))`,
      `CREATE TABLE "review_verdict" ("workspace_id" uuid NOT NULL REFERENCES "workspace" ON DELETE CASCADE, "person_id" uuid NOT NULL REFERENCES "person" ON DELETE RESTRICT, "verdict" text NOT NULL, "text" text NOT NULL, "diff" text NOT NULL, "main" text NOT NULL, "at" TIMESTAMP WITH TIME ZONE NOT NULL, CONSTRAINT "review_verdict_pkey" PRIMARY KEY ("workspace_id", "person_id"))`,
      `CREATE TABLE "review_request" ("workspace_id" uuid NOT NULL REFERENCES "workspace" ON DELETE CASCADE, "person_id" uuid NOT NULL REFERENCES "person" ON DELETE RESTRICT, "at" TIMESTAMP WITH TIME ZONE NOT NULL, CONSTRAINT "review_request_pkey" PRIMARY KEY ("workspace_id"))`,
      `CREATE TABLE "remark" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "workspace_id" uuid NOT NULL REFERENCES "workspace" ON DELETE CASCADE, "person_id" uuid NOT NULL REFERENCES "person" ON DELETE RESTRICT, "answers" integer REFERENCES "remark" ON DELETE CASCADE, "place" jsonb NOT NULL, "text" text NOT NULL, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT clock_now(), "resolved_by_id" uuid REFERENCES "person" ON DELETE RESTRICT, "resolved_at" TIMESTAMP WITH TIME ZONE, CONSTRAINT "remark_pkey" PRIMARY KEY ("id"))`,
      `CREATE INDEX "remark_of" ON "remark" ("workspace_id")`,
      `ALTER TABLE "release" ADD COLUMN "review" jsonb`,
    ])
      await runner.query(sql);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "release" DROP COLUMN "review"`);
    for (const table of ['remark', 'review_request', 'review_verdict', 'push', 'branch_writer'])
      await runner.query(`DROP TABLE "${table}"`);
  }
}
