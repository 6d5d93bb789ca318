import { Injectable, type OnModuleDestroy, type OnModuleInit } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { createTransport } from 'nodemailer';
import { randomUUID } from 'node:crypto';
import { Repository } from 'typeorm';
import { logger } from '../shared/problem.js';
import { Sending } from './message.entities.js';
import { ReceiverService } from './receiver.service.js';
import { post } from './webhook.js';
import { currentTime } from '../shared/time.js';

const LOOK_MS = 1_000;
/** How long a process keeps what it has taken; after that another one sends it, with the same id. */
const LEASE = '2 minutes';
const AT_A_TIME = 20;
const MINUTE = 60_000;
const LONGEST_PAUSE = 60 * MINUTE;
const GIVEN_UP_AFTER = 24 * 60 * MINUTE;

interface Taken {
  readonly id: string;
  readonly bundle: string;
}

/** What is sent in one go: one message, or those of a digest. */
interface Bundle {
  readonly id: string;
  readonly sendings: readonly Sending[];
}

/** Sends what is due, apart from what tells it: a receiver that does not answer holds nobody up. */
@Injectable()
export class Sender implements OnModuleInit, OnModuleDestroy {
  private timer: NodeJS.Timeout | undefined;
  private going: Promise<void> | undefined;

  constructor(
    @InjectRepository(Sending) private readonly sendings: Repository<Sending>,
    private readonly receivers: ReceiverService,
  ) {}

  onModuleInit(): void {
    this.timer = setInterval(() => {
      this.going ??= this.sendDue()
        .catch((error: unknown) => logger.warn(error))
        .finally(() => (this.going = undefined));
    }, LOOK_MS);
    this.timer.unref();
  }

  async onModuleDestroy(): Promise<void> {
    clearInterval(this.timer);
    await this.going;
  }

  /** Sends all that is due now. */
  async sendDue(): Promise<void> {
    const bundles = await this.take();
    await Promise.all(bundles.map((b) => this.send(b)));
  }

  /**
   * Takes what is due for this process. What is due to one receiver by mail goes together under an id that is stored
   * before anything is sent, so that what a kill interrupts is sent again under the same one.
   */
  private async take(): Promise<Bundle[]> {
    const taken = await this.sendings.manager.transaction(async (manager) => {
      const due = await manager.query<{ id: string; channel: string; receiver: string; bundle: string | null }[]>(
        `select id, channel, receiver, bundle from sending where state = 'waiting' and due <= clock_now() order by due limit $1 for update skip locked`,
        [AT_A_TIME],
      );
      const bundles = new Map<string, string>();
      const found: Taken[] = due.map(({ id, channel, receiver, bundle }) => {
        if (bundle !== null) return { id, bundle };
        if (channel !== 'mail') return { id, bundle: randomUUID() };
        const key = bundles.get(receiver) ?? randomUUID();
        bundles.set(receiver, key);
        return { id, bundle: key };
      });
      if (found.length)
        await manager.query(
          `update sending as s set bundle = t.bundle, due = clock_now() + $3::interval
           from unnest($1::uuid[], $2::uuid[]) as t (id, bundle) where s.id = t.id`,
          [found.map((f) => f.id), found.map((f) => f.bundle), LEASE],
        );
      return found;
    });
    const ids = [...new Set(taken.map((t) => t.bundle))];
    return Promise.all(
      ids.map(async (id) => ({
        id,
        sendings: await this.sendings.find({
          where: { bundle: id },
          relations: { message: true },
          order: { message: { at: 'ASC' } },
        }),
      })),
    );
  }

  private async send({ id, sendings }: Bundle): Promise<void> {
    const [first] = sendings;
    if (!first) return;
    const where = { bundle: id, state: 'waiting' as const };
    try {
      const channel = first.channel === 'webhook' ? 'webhook' : 'mail';
      const address = await this.receivers.addressOf(first.receiver, channel);
      if (!address) {
        await this.sendings.update(where, { state: 'given up', error: 'There is no address any more.' });
        return;
      }
      if (channel === 'mail') await this.mail(id, address.to, sendings);
      else await this.webhook(id, address, first);
      await this.sendings.update(where, { state: 'sent', sentAt: currentTime(), error: null });
    } catch (error) {
      const attempts = first.attempts + 1;
      const isOver = currentTime().getTime() - first.message.at.getTime() > GIVEN_UP_AFTER;
      await this.sendings.update(where, {
        attempts,
        error: error instanceof Error ? error.message.slice(0, 500) : String(error),
        due: new Date(currentTime().getTime() + Math.min(LONGEST_PAUSE, MINUTE * 2 ** (attempts - 1))),
        ...(isOver ? { state: 'given up' as const } : {}),
      });
    }
  }

  private async mail(id: string, to: string, sendings: readonly Sending[]): Promise<void> {
    const server = await this.receivers.mailServer();
    if (!server) throw new Error('There is no mail server: an administrator names one under Settings, Sending.');
    const { host, port, tls, user, password, from } = server;
    const { publicAddress } = await this.receivers.sendingSettings();
    const transport = createTransport({
      host,
      port,
      secure: tls === 'tls',
      requireTLS: tls === 'starttls',
      ignoreTLS: tls === 'off',
      connectionTimeout: 10_000,
      greetingTimeout: 10_000,
      socketTimeout: 20_000,
      ...(user ? { auth: { user, pass: password ?? '' } } : {}),
    });
    const [only] = sendings;
    try {
      await transport.sendMail({
        messageId: `<${id}@ouvrage.invalid>`,
        from,
        to,
        subject: sendings.length === 1 ? only!.message.title : `${sendings.length} messages: ${only!.message.title} …`,
        text: sendings.map((s) => textOf(s, publicAddress)).join('\n\n'),
      });
    } finally {
      transport.close();
    }
  }

  private async webhook(
    id: string,
    { to, secret }: { to: string; secret: string },
    { message }: Sending,
  ): Promise<void> {
    const { publicAddress, ranges } = await this.receivers.sendingSettings();
    const { kind, severity, title, lines, path, at } = message;
    const body = JSON.stringify({
      message: message.id,
      kind,
      severity,
      title,
      lines,
      link: `${publicAddress}${path}`,
      at,
    });
    await post(to, { id, body, secret, ranges });
  }
}

const textOf = ({ message: { title, severity, lines, path } }: Sending, publicAddress: string): string =>
  [`${title} (${severity})`, ...lines, `${publicAddress}${path}`].join('\n');
