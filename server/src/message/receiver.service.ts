import { Inject, Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { Desk, Reading, Receivers, SendingSettings } from '@ouvrage/api/message';
import { optionOf } from '@ouvrage/core/language';
import { didYouMean, nearest } from '@ouvrage/core/sql';
import { type EntityManager, Repository } from 'typeorm';
import { mayAct } from '../people/access.js';
import { PERSON_ROLES, type Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { Config } from '../shared/config.js';
import { notFound, Problem } from '../shared/problem.js';
import { randomToken, seal, unseal } from '../shared/secret.js';
import { Setting } from '../shared/setting.entity.js';
import { DeskRow, MailAddress, ReadingRow } from './message.entities.js';
import { type KnownPerson, USUAL } from './recipients.js';
import { addressProblem, rangesOf } from './webhook.js';

const SENDING = 'sending';

/** Settings of sending as they are kept. */
interface KeptSettings {
  readonly publicAddress: string;
  readonly mail:
    (Omit<NonNullable<SendingSettings['mail']>, 'hasPassword'> & { readonly password: string | null }) | null;
  readonly ranges: readonly string[];
}

export type DeskAsked = Pick<Desk, 'name' | 'members' | 'mail' | 'webhook'>;
export type SettingsAsked = Omit<SendingSettings, 'mail'> & {
  readonly mail:
    (Omit<NonNullable<SendingSettings['mail']>, 'hasPassword'> & { readonly password?: string | undefined }) | null;
};

/** Who can be told and where: desks, addresses of people, how each of them is told, and how messages leave. */
@Injectable()
export class ReceiverService {
  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectRepository(DeskRow) private readonly desks: Repository<DeskRow>,
    @InjectRepository(ReadingRow) private readonly readings: Repository<ReadingRow>,
    @InjectRepository(MailAddress) private readonly addresses: Repository<MailAddress>,
    @InjectRepository(Setting) private readonly settings: Repository<Setting>,
    private readonly people: PeopleService,
    private readonly projects: ProjectService,
  ) {}

  /** Desks and people; addresses are shown to administrators alone. */
  async receivers(me: Person): Promise<Receivers> {
    const isAdministrator = mayAct(me.role, 'administrator');
    const [desks, people, addresses, line] = await Promise.all([
      this.desks.find({ order: { name: 'ASC' } }),
      this.people.acting(PERSON_ROLES[0]),
      this.addresses.find(),
      this.projects.line(PRODUCTION),
    ]);
    const mailOf = (name: string) => addresses.find((a) => a.person === name)?.address ?? null;
    const names = [...desks.map((d) => d.name), ...people.flatMap((p) => [p.name, p.displayName])];
    const known = new Set(names.map((n) => n.toLowerCase()));
    const owners = new Map<string, string[]>();
    for (const table of line.project.tables.values()) {
      const owner = optionOf(table, 'owner');
      if (owner !== undefined && !known.has(owner.trim().toLowerCase()))
        owners.set(owner, [...(owners.get(owner) ?? []), table.fullName]);
    }
    return {
      desks: desks.map((d) => ({
        id: d.id,
        name: d.name,
        members: d.members,
        mail: isAdministrator ? d.mail : null,
        webhook: isAdministrator ? d.webhook : null,
        hasSecret: d.secret !== null,
      })),
      people: people.map(({ name, displayName }) => ({
        name,
        displayName,
        mail: isAdministrator || name === me.name ? mailOf(name) : null,
      })),
      unknown: [...owners].map(([owner, tables]) => ({ owner, tables, nearest: nearest(owner, names) ?? null })),
    };
  }

  /**
   * Makes or changes a desk. A webhook has a secret of its own, which is told once.
   * @returns the secret where a new one was made
   */
  async saveDesk(me: Person, id: string | undefined, asked: DeskAsked): Promise<{ id: string; secret: string | null }> {
    const before = id === undefined ? undefined : await this.desks.findOneBy({ id });
    if (id !== undefined && !before) throw notFound('The desk');
    const name = asked.name.trim();
    const other = await this.desks.findOneBy({ name });
    if (other && other.id !== id) throw new Problem(409, 'already-there', `There is a desk ${name} already`);
    const people = await this.people.acting(PERSON_ROLES[0]);
    const stranger = asked.members.find((m) => !people.some((p) => p.name === m));
    if (stranger !== undefined)
      throw new Problem(
        422,
        'no-such-person',
        `${stranger} is nobody who signs in`,
        didYouMean(
          stranger,
          people.map((p) => p.name),
        ),
      );
    const wrong = asked.webhook === null ? undefined : addressProblem(asked.webhook);
    if (wrong !== undefined)
      throw new Problem(422, 'bad-address', `The webhook cannot lead to ${asked.webhook}`, `${wrong}.`);
    // Another address is another receiver: it does not get the secret of the one before.
    const keeps = asked.webhook !== null && before?.webhook === asked.webhook && before.secret !== null;
    const secret = asked.webhook === null || keeps ? null : randomToken();
    const row = {
      name,
      members: [...new Set(asked.members)],
      mail: asked.mail,
      webhook: asked.webhook,
      secret: keeps ? before.secret : secret === null ? null : seal(this.config.key, secret),
    };
    const saved = before ? { id: before.id } : (await this.desks.insert(row)).identifiers[0]!;
    if (before) await this.desks.update(before.id, row);
    await this.people.audit(me, before ? 'desk changed' : 'desk made', name, { members: row.members });
    return { id: saved['id'] as string, secret };
  }

  async deleteDesk(me: Person, id: string): Promise<void> {
    const desk = await this.desks.findOneBy({ id });
    if (!desk) throw notFound('The desk');
    await this.desks.delete(id);
    await this.people.audit(me, 'desk deleted', desk.name);
  }

  /** Where mail of a person goes; null for nowhere. */
  async saveMail(me: Person, name: string, address: string | null): Promise<void> {
    const people = await this.people.acting(PERSON_ROLES[0]);
    if (!people.some((p) => p.name === name)) throw notFound(`The person ${name}`);
    if (address === null) await this.addresses.delete({ person: name });
    else await this.addresses.upsert({ person: name, address }, ['person']);
    await this.people.audit(me, 'mail address changed', name);
  }

  async reading({ name }: Pick<Person, 'name'>): Promise<Reading> {
    const [row, address] = await Promise.all([
      this.readings.findOneBy({ person: name }),
      this.addresses.findOneBy({ person: name }),
    ]);
    return { ...USUAL, ...(row ? withoutPerson(row) : {}), mail: address?.address ?? null };
  }

  /** How a person is told from now on. @throws Problem for a table that production does not have */
  async saveReading({ name }: Person, asked: Omit<Reading, 'mail'>): Promise<void> {
    const { project } = await this.projects.line(PRODUCTION);
    for (const { kind, value } of asked.subscriptions)
      if (kind === 'table' && !project.tables.has(value))
        throw new Problem(422, 'unknown-table', `There is no table ${value}`, didYouMean(value, project.tables.keys()));
    if ((asked.quietFrom === null) !== (asked.quietTo === null))
      throw new Problem(422, 'quiet-hours', 'Quiet hours need a beginning and an end');
    await this.readings.upsert(
      { person: name, ...asked, channels: [...asked.channels], subscriptions: asked.subscriptions as never },
      ['person'],
    );
  }

  /** All who can be told, for choosing among them. */
  async known(manager: EntityManager): Promise<{ desks: DeskRow[]; people: KnownPerson[] }> {
    const people = await this.people.acting(PERSON_ROLES[0]);
    // One connection, one statement at a time.
    const desks = await manager.find(DeskRow);
    const readings = await manager.find(ReadingRow);
    const addresses = await manager.find(MailAddress);
    return {
      desks,
      people: people.map(({ name, displayName }) => {
        const row = readings.find((r) => r.person === name);
        const mail = addresses.find((a) => a.person === name)?.address ?? null;
        return { name, displayName, mail, reading: { ...USUAL, ...(row ? withoutPerson(row) : {}), mail } };
      }),
    };
  }

  /** Where a receiver is reached now; undefined where it is no more. */
  async addressOf(
    receiver: string,
    channel: 'mail' | 'webhook',
  ): Promise<{ readonly to: string; readonly secret: string } | undefined> {
    const [kind, id = ''] = receiver.split(':');
    if (kind === 'person') {
      const found = await this.addresses.findOneBy({ person: id });
      return found ? { to: found.address, secret: '' } : undefined;
    }
    const desk = await this.desks.findOneBy({ id });
    const to = channel === 'mail' ? desk?.mail : desk?.webhook;
    if (!desk || !to) return undefined;
    return { to, secret: desk.secret === null ? '' : unseal(this.config.key, desk.secret) };
  }

  async sendingSettings(): Promise<SendingSettings> {
    const { mail, ...rest } = await this.kept();
    if (!mail) return { ...rest, mail: null };
    const { password, ...shown } = mail;
    return { ...rest, mail: { ...shown, hasPassword: password !== null } };
  }

  /** The mail server with its password; undefined where there is none. */
  async mailServer(): Promise<
    (Omit<NonNullable<KeptSettings['mail']>, 'password'> & { password?: string }) | undefined
  > {
    const { mail } = await this.kept();
    if (!mail) return undefined;
    const { password, ...rest } = mail;
    return { ...rest, ...(password === null ? {} : { password: unseal(this.config.key, password) }) };
  }

  /** @throws Problem for ranges or an address that are none */
  async saveSending(me: Person | string, asked: SettingsAsked): Promise<void> {
    try {
      rangesOf(asked.ranges);
    } catch (error) {
      throw new Problem(422, 'bad-range', (error as Error).message, 'Write one such as 10.1.0.0/16.');
    }
    const wrong = asked.publicAddress === '' ? undefined : addressProblem(asked.publicAddress);
    if (wrong !== undefined) throw new Problem(422, 'bad-address', 'The public address cannot be used', `${wrong}.`);
    const before = (await this.kept()).mail;
    const isSame = before !== null && asked.mail?.host === before.host && asked.mail.port === before.port;
    const mail = asked.mail && {
      ...asked.mail,
      // A password stays for the server that it was given for.
      password: asked.mail.password ? seal(this.config.key, asked.mail.password) : isSame ? before.password : null,
    };
    const publicAddress = asked.publicAddress.replace(/\/+$/, '');
    await this.settings.upsert({ name: SENDING, value: { publicAddress, mail, ranges: asked.ranges } as never }, [
      'name',
    ]);
    await this.people.audit(me, 'sending changed', asked.mail?.host ?? 'no mail');
  }

  private async kept(): Promise<KeptSettings> {
    const found = (await this.settings.findOneBy({ name: SENDING }))?.value as KeptSettings | undefined;
    return found ?? { publicAddress: '', mail: null, ranges: [] };
  }
}

function withoutPerson({ person: _, ...row }: ReadingRow): Omit<Reading, 'mail'> {
  return row;
}
