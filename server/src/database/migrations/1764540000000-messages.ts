import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Desks, addresses, messages and their way to receivers. */
export class Messages1764540000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    for (const sql of [
      `CREATE TABLE "desk" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "name" text NOT NULL, "members" text array NOT NULL, "mail" text, "webhook" text, "secret" text, CONSTRAINT "desk_pkey" PRIMARY KEY ("id"), CONSTRAINT "desk_name" UNIQUE ("name"))`,
      `CREATE TABLE "reading" ("person" text NOT NULL, "channels" text array NOT NULL, "least" text NOT NULL, "digest" text NOT NULL, "quiet_from" text, "quiet_to" text, "zone" text NOT NULL, "subscriptions" jsonb NOT NULL, CONSTRAINT "reading_pkey" PRIMARY KEY ("person"))`,
      `CREATE TABLE "mail_address" ("person" text NOT NULL, "address" text NOT NULL, CONSTRAINT "mail_address_pkey" PRIMARY KEY ("person"))`,
      `CREATE TABLE "message" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "key" text NOT NULL, "kind" text NOT NULL, "severity" text NOT NULL, "title" text NOT NULL, "lines" text array NOT NULL, "path" text NOT NULL, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), CONSTRAINT "message_pkey" PRIMARY KEY ("id"), CONSTRAINT "message_key" UNIQUE ("key"))`,
      `CREATE TABLE "sending" ("id" uuid NOT NULL DEFAULT gen_random_uuid(), "message_id" uuid NOT NULL, "channel" text NOT NULL, "receiver" text NOT NULL, "state" text NOT NULL, "attempts" integer NOT NULL DEFAULT 0, "due" TIMESTAMP WITH TIME ZONE NOT NULL, "bundle" uuid, "error" text, "sent_at" TIMESTAMP WITH TIME ZONE, "read_at" TIMESTAMP WITH TIME ZONE, CONSTRAINT "sending_pkey" PRIMARY KEY ("id"), CONSTRAINT "sending_message" FOREIGN KEY ("message_id") REFERENCES "message" ("id") ON DELETE CASCADE)`,
      `CREATE INDEX "sending_due" ON "sending" ("state", "due")`,
      `CREATE UNIQUE INDEX "sending_once" ON "sending" ("message_id", "channel", "receiver")`,
      `CREATE TABLE "outbox_entry" ("id" text NOT NULL, "channel" text NOT NULL, "to_address" text NOT NULL, "subject" text NOT NULL, "body" text NOT NULL, "repeats" integer NOT NULL DEFAULT 0, "at" TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now(), CONSTRAINT "outbox_entry_pkey" PRIMARY KEY ("id"))`,
    ])
      await runner.query(sql);
  }

  async down(runner: QueryRunner): Promise<void> {
    for (const table of ['outbox_entry', 'sending', 'message', 'mail_address', 'reading', 'desk'])
      await runner.query(`DROP TABLE "${table}"`);
  }
}
