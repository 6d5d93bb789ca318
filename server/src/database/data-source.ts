import pg from 'pg';
import type { DataSourceOptions } from 'typeorm';
import { AccessToken, Audit, Person, Session } from '../people/people.entities.js';
import { BranchWriter, CommitAuthor, Draft, Push, Workspace } from '../project/project.entities.js';
import { RemarkRow, RequestRow, VerdictRow } from '../review/review.entities.js';
import { CheckResult, Release, Run, RunStep } from '../run/run.entities.js';
import { Delivery } from '../delivery/delivery.entities.js';
import { JobStart, JobState } from '../job/job.entities.js';
import { Incident, IncidentEvent, IncidentSubject } from '../incident/incident.entities.js';
import { SourceState } from '../source/source.entities.js';
import { Setting } from '../shared/setting.entity.js';
import { Binding, Connection } from '../connection/connection.entities.js';
import type { Config } from '../shared/config.js';
import { handled } from '../shared/pools.js';
import { Initial1764057600000 } from './migrations/1764057600000-initial.js';
import { Bindings1764072000000 } from './migrations/1764072000000-bindings.js';
import { Deliveries1764079200000 } from './migrations/1764079200000-deliveries.js';
import { LoadNote1764100000000 } from './migrations/1764100000000-load-note.js';
import { DeliveryKept1764400000000 } from './migrations/1764400000000-delivery-kept.js';
import { CheckTexts1764500000000 } from './migrations/1764500000000-check-texts.js';
import { Measurement, WatchLesson } from '../watch/watch.entities.js';
import { DeskRow, MailAddress, Message, ReadingRow, Sending } from '../message/message.entities.js';
import { AgreementRow } from '../quality/agreement.entities.js';
import { OutboxRow } from '../standin/outbox.entities.js';
import { KeptOutcome } from '../example/example.entities.js';
import { Watches1764520000000 } from './migrations/1764520000000-watches.js';
import { Agreements1764550000000 } from './migrations/1764550000000-agreements.js';
import { Clock1764560000000 } from './migrations/1764560000000-clock.js';
import { Waits1764570000000 } from './migrations/1764570000000-waits.js';
import { Reviews1764580000000 } from './migrations/1764580000000-reviews.js';
import { Sharing1764590000000 } from './migrations/1764590000000-sharing.js';
import { WaysBack1764600000000 } from './migrations/1764600000000-ways-back.js';
import { Restores1764610000000 } from './migrations/1764610000000-restores.js';
import { TokenRights1764620000000 } from './migrations/1764620000000-token-rights.js';
import { Accounts1764630000000 } from './migrations/1764630000000-accounts.js';
import { Jobs1764640000000 } from './migrations/1764640000000-jobs.js';
import { Messages1764540000000 } from './migrations/1764540000000-messages.js';
import { Examples1764530000000 } from './migrations/1764530000000-examples.js';
import { Incidents1764510000000 } from './migrations/1764510000000-incidents.js';
import { Authors1764300000000 } from './migrations/1764300000000-authors.js';
import { SignInAttempts1764300100000 } from './migrations/1764300100000-sign-in-attempts.js';
import { LoadCounts1764090000000 } from './migrations/1764090000000-load-counts.js';

export const ENTITIES = [
  Measurement,
  WatchLesson,
  KeptOutcome,
  AgreementRow,
  DeskRow,
  MailAddress,
  Message,
  OutboxRow,
  ReadingRow,
  Sending,
  Incident,
  IncidentSubject,
  IncidentEvent,
  Person,
  Session,
  AccessToken,
  Audit,
  Workspace,
  Draft,
  CommitAuthor,
  BranchWriter,
  Push,
  VerdictRow,
  RequestRow,
  RemarkRow,
  JobState,
  JobStart,
  Run,
  RunStep,
  CheckResult,
  Release,
  Connection,
  Binding,
  SourceState,
  Delivery,
  Setting,
];

/** Between two of its uses the library listens to no error of a connection: one that is lost then would end the process. */
class HandledPool extends pg.Pool {
  constructor(options: pg.PoolConfig) {
    super(options);
    handled(this);
  }
}

/** The application's database; its schema comes from migrations only. */
export function dataSourceOptions({ application: a }: Config): DataSourceOptions {
  return {
    type: 'postgres',
    host: a.host,
    port: a.port,
    database: a.database,
    username: a.user,
    password: a.password,
    entities: ENTITIES,
    migrations: [
      Initial1764057600000,
      Bindings1764072000000,
      Deliveries1764079200000,
      LoadCounts1764090000000,
      LoadNote1764100000000,
      Authors1764300000000,
      SignInAttempts1764300100000,
      DeliveryKept1764400000000,
      CheckTexts1764500000000,
      Incidents1764510000000,
      Watches1764520000000,
      Examples1764530000000,
      Messages1764540000000,
      Agreements1764550000000,
      Clock1764560000000,
      Waits1764570000000,
      Reviews1764580000000,
      Sharing1764590000000,
      WaysBack1764600000000,
      Restores1764610000000,
      TokenRights1764620000000,
      Accounts1764630000000,
      Jobs1764640000000,
    ],
    synchronize: false,
    uuidExtension: 'pgcrypto',
    installExtensions: false,
    migrationsRun: true,
    poolSize: 10,
    driver: Object.create(pg, { Pool: { value: HandledPool } }) as typeof pg,
  };
}
