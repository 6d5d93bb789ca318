import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Incidents, what they are about and what happened; and which runs have been followed: those from before are not. */
export class Incidents1764510000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    for (const sql of [
      `CREATE TABLE "incident" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "title" text NOT NULL, "description" text NOT NULL, "state" text NOT NULL, "severity" text NOT NULL, "lead" text, "opened_by" text, "since" TIMESTAMP WITH TIME ZONE NOT NULL, "opened_at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), "closed_at" TIMESTAMP WITH TIME ZONE, "learned" text, "closed_though" text, "reopened" integer NOT NULL DEFAULT 0, CONSTRAINT "incident_pkey" PRIMARY KEY ("id"))`,
      `CREATE INDEX "incident_opened_at" ON "incident" ("opened_at")`,
      `CREATE TABLE "incident_subject" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "kind" text NOT NULL, "subject" text NOT NULL, "table_name" text NOT NULL, "is_open" boolean NOT NULL, "incident_id" integer NOT NULL, CONSTRAINT "incident_subject_pkey" PRIMARY KEY ("id"), CONSTRAINT "incident_subject_incident" FOREIGN KEY ("incident_id") REFERENCES "incident"("id") ON DELETE CASCADE)`,
      `CREATE UNIQUE INDEX "incident_subject_open" ON "incident_subject" ("kind", "subject") WHERE is_open`,
      `CREATE INDEX "incident_subject_of" ON "incident_subject" ("incident_id")`,
      `CREATE TABLE "incident_event" ("id" integer GENERATED ALWAYS AS IDENTITY NOT NULL, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), "kind" text NOT NULL, "person" text, "text" text, "run_id" integer, "verdict" text, "at_fault" bigint, "total" bigint, "subject" text, "incident_id" integer NOT NULL, CONSTRAINT "incident_event_pkey" PRIMARY KEY ("id"), CONSTRAINT "incident_event_incident" FOREIGN KEY ("incident_id") REFERENCES "incident"("id") ON DELETE CASCADE)`,
      `CREATE INDEX "incident_event_of" ON "incident_event" ("incident_id")`,
      `ALTER TABLE "run" ADD "followed" boolean NOT NULL DEFAULT true`,
      `ALTER TABLE "run" ALTER "followed" SET DEFAULT false`,
      `CREATE INDEX "run_not_followed" ON "run" ("id") WHERE NOT "followed"`,
    ])
      await runner.query(sql);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`ALTER TABLE "run" DROP COLUMN "followed"`);
    for (const table of ['incident_event', 'incident_subject', 'incident']) await runner.query(`DROP TABLE "${table}"`);
  }
}
