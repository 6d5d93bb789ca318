import { Inject, Injectable } from '@nestjs/common';
import { BEGUN_WORKSPACE, begunDrafts, instantOf, MORNING, PROJECT_FOLDER } from '@ouvrage/demo';
import { readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { AccountService } from './people/account.service.js';
import type { Person } from './people/people.entities.js';
import { PeopleService } from './people/people.service.js';
import { PRODUCTION } from './project/branches.js';
import { DraftService } from './project/draft.service.js';
import { SharingService } from './project/sharing.service.js';
import { ProjectService } from './project/project.service.js';
import type { Run } from './run/run.entities.js';
import { ClockService } from './run/clock.service.js';
import { RunService } from './run/run.service.js';
import { Config } from './shared/config.js';
import { ConnectionService } from './connection/connection.service.js';
import { DeliveryWatcher } from './delivery/delivery-watcher.js';
import { IntakeService } from './source/intake.service.js';
import { ReceiverService } from './message/receiver.service.js';
import { OutboxService } from './standin/outbox.service.js';
import { HarbourService } from './standin/harbour.service.js';
import { PastService } from './standin/past.service.js';

/** Of each of the demo's people. */
export const DEMO_PASSWORD = 'saltmere';

/** The demo's desks: who is in them, and whether they have a webhook. */
const DESKS: readonly (readonly [string, string[], boolean])[] = [
  ['harbour master', ['jonas'], false],
  ['fleet desk', ['jonas', 'vera'], false],
  ['dues office', ['mira', 'vera'], true],
];

/** Fills an empty installation: the demo, or an empty project whose first administrator is made in the browser. */
@Injectable()
export class Seeder {
  constructor(
    @Inject(Config) private readonly config: Config,
    private readonly people: PeopleService,
    private readonly accounts: AccountService,
    private readonly projects: ProjectService,
    private readonly sharing: SharingService,
    private readonly drafts: DraftService,
    private readonly connections: ConnectionService,
    private readonly intake: IntakeService,
    private readonly runs: RunService,
    private readonly harbour: HarbourService,
    private readonly deliveries: DeliveryWatcher,
    private readonly outbox: OutboxService,
    private readonly receivers: ReceiverService,
    private readonly clock: ClockService,
    private readonly past: PastService,
  ) {}

  /** Does nothing where there are people already. */
  async seed(say: (text: string) => void): Promise<void> {
    const webhook = await this.outbox.start();
    if ((await this.people.count()) > 0) return this.connections.moved(this.config.harbour);
    if (!this.config.demo) return this.empty();
    say('Making the demo: the port of Saltmere ...');
    const { past } = this.config;
    if (past) {
      await this.clock.set(new Date(instantOf(past.from, MORNING)));
      await this.past.plan(past);
    }
    await this.projects.create(projectFiles(PROJECT_FOLDER), 'The project of Saltmere');
    const admin = await this.people.create('admin', 'Ada Minch', 'administrator', DEMO_PASSWORD);
    await this.people.create('jonas', 'Jonas Reet', 'editor', DEMO_PASSWORD);
    await this.people.create('vera', 'Vera Lund', 'viewer', DEMO_PASSWORD);
    const mira = await this.people.create('mira', 'Mira Okafor', 'releaser', DEMO_PASSWORD);
    await this.desks(admin, webhook);
    const connection = await this.connections.create({ name: 'port_ops', ...this.config.harbour, tls: 'off' });
    await this.connections.bindEverywhere('port_ops', connection);
    await this.harbour.start(past?.from);
    say('Bringing in the harbour’s tables and building the warehouse ...');
    await this.deliveries.look(0);
    await this.finished(await this.intake.ask(mira, PRODUCTION, []));
    await this.finished(await this.runs.build(mira, PRODUCTION, { tables: [], upstream: false, downstream: false }));
    await this.workspaces(mira);
  }

  /** The desks that own the demo's tables, and where its people get mail. */
  private async desks(admin: Person, webhook: string | undefined): Promise<void> {
    for (const name of ['jonas', 'mira', 'vera'])
      await this.receivers.saveMail(admin, name, `${name}@saltmere.example`);
    for (const [name, members, hook] of DESKS)
      await this.receivers.saveDesk(admin, undefined, {
        name,
        members,
        mail: null,
        webhook: hook && webhook ? `${webhook}/${name.replaceAll(' ', '-')}` : null,
      });
  }

  private async workspaces(person: Person): Promise<void> {
    const begun = await this.projects.createWorkspace(person, BEGUN_WORKSPACE);
    for (const draft of begunDrafts(projectFiles(PROJECT_FOLDER)))
      await this.drafts.keep(person, begun, { ...draft, version: 0 });
    const dues = await this.projects.createWorkspace(person, 'Berth dues');
    for (const { slug } of [begun, dues]) await this.sharing.share(person, slug, { all: true, names: [] });
  }

  private async empty(): Promise<void> {
    const layers = ['landing', 'reference', 'staging', 'core', 'mart'].map((l) => `create schema ${l};\n`).join('');
    await this.projects.create(new Map([['layers.sql', layers]]), 'An empty project');
    await this.accounts.makeCode();
  }

  private async finished(run: Run): Promise<void> {
    for (;;) {
      const { state, error } = await this.runs.get(run.id);
      if (state === 'succeeded') return;
      if (!['queued', 'running'].includes(state)) throw new Error(`run ${run.id} of the demo ${state}: ${error ?? ''}`);
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
  }
}

/** The files of a folder by their path below it. */
export function projectFiles(folder: string): Map<string, string> {
  const entries = readdirSync(folder, { recursive: true, withFileTypes: true }).filter((e) => e.isFile());
  return new Map(
    entries.map((e) => {
      const full = path.join(e.parentPath, e.name);
      return [path.relative(folder, full), readFileSync(full, 'utf8')];
    }),
  );
}
