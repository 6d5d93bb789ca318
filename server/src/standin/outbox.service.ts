import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { Inject, Injectable, type OnModuleDestroy } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { OutboxEntry } from '@ouvrage/api/message';
import { SMTPServer } from 'smtp-server';
import { Repository } from 'typeorm';
import { ReceiverService } from '../message/receiver.service.js';
import type { Sent } from '../shared/answers.js';
import { Config } from '../shared/config.js';
import { logger } from '../shared/problem.js';
import { OutboxRow } from './outbox.entities.js';
import { Setting } from '../shared/setting.entity.js';

const PORTS = 'outbox_ports';
const LONGEST = 100_000;
const SHOWN = 200;

interface Ports {
  readonly mail: number;
  readonly webhook: number;
}

/** The demo's receivers: a mail server and a webhook on loopback that keep what they get, for people to look at. */
@Injectable()
export class OutboxService implements OnModuleDestroy {
  private mail: SMTPServer | undefined;
  private webhook: Server | undefined;

  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectRepository(OutboxRow) private readonly entries: Repository<OutboxRow>,
    @InjectRepository(Setting) private readonly settings: Repository<Setting>,
    private readonly receivers: ReceiverService,
  ) {}

  async onModuleDestroy(): Promise<void> {
    await new Promise<void>((done) => (this.mail ? this.mail.close(() => done()) : done()));
    this.webhook?.closeAllConnections();
    await new Promise<void>((done) => (this.webhook ? this.webhook.close(() => done()) : done()));
  }

  /**
   * Listens, on the ports of before where there are any, and leads mail here where nobody has named a mail server.
   * Another process of the same data may listen already: that one gets what is sent.
   * @returns where webhooks are received; undefined where this is no demo
   */
  async start(): Promise<string | undefined> {
    if (!this.config.demo) return undefined;
    const before = (await this.settings.findOneBy({ name: PORTS }))?.value as Ports | undefined;
    this.mail = new SMTPServer({
      disabledCommands: ['AUTH', 'STARTTLS'],
      logger: false,
      size: LONGEST,
      onData: (stream, session, done) => {
        const parts: Buffer[] = [];
        let size = 0;
        // What is longer than it may be is read and forgotten.
        stream.on('data', (part: Buffer) => (size += part.length) <= LONGEST && parts.push(part));
        stream.on('end', () => {
          const to = session.envelope.rcptTo.map((r) => r.address).join(', ');
          this.keepMail(Buffer.concat(parts).toString('utf8'), to).then(
            () => done(),
            (error: Error) => done(error),
          );
        });
      },
    });
    this.mail.on('error', (error) => logger.warn(error));
    this.webhook = createServer((request, response) => {
      const parts: Buffer[] = [];
      let size = 0;
      request.on('data', (part: Buffer) => {
        size += part.length;
        if (size > LONGEST) request.destroy();
        else parts.push(part);
      });
      request.on('end', () => {
        const body = Buffer.concat(parts).toString('utf8').slice(0, LONGEST);
        const header = (name: string) => String(request.headers[name] ?? '');
        this.keep({
          id: header('ouvrage-delivery').slice(0, 100),
          channel: 'webhook',
          to: request.url ?? '/',
          subject: titleIn(body),
          body: `ouvrage-time: ${header('ouvrage-time')}\nouvrage-signature: ${header('ouvrage-signature')}\n\n${body}`,
        }).then(
          () => response.writeHead(204).end(),
          () => response.writeHead(500).end(),
        );
      });
    });
    const ports = {
      mail: await listening(this.mail.server as unknown as Server, before?.mail ?? 0),
      webhook: await listening(this.webhook, before?.webhook ?? 0),
    };
    await this.settings.upsert({ name: PORTS, value: ports as never }, ['name']);
    const settings = await this.receivers.sendingSettings();
    if (!settings.mail || (settings.mail.host === '127.0.0.1' && settings.mail.port === before?.mail))
      await this.receivers.saveSending('Ouvrage', {
        publicAddress: settings.publicAddress || `http://127.0.0.1:${this.config.port}`,
        mail: { host: '127.0.0.1', port: ports.mail, tls: 'off', user: '', from: 'Ouvrage <ouvrage@saltmere.example>' },
        ranges: [...new Set([...settings.ranges, '127.0.0.1/32'])],
      });
    return `http://127.0.0.1:${ports.webhook}`;
  }

  private keepMail(text: string, to: string): Promise<void> {
    const [head = '', ...rest] = text.split(/\r?\n\r?\n/);
    const field = (name: string) =>
      new RegExp(`^${name}:[ \\t]*(.*(?:\\r?\\n[ \\t].*)*)`, 'im').exec(head)?.[1]?.replaceAll(/\r?\n[ \t]+/g, ' ') ??
      '';
    const isQuoted = /quoted-printable/i.test(field('content-transfer-encoding'));
    const body = rest.join('\n\n');
    return this.keep({
      id: field('message-id').slice(0, 200),
      channel: 'mail',
      to,
      subject: decoded(field('subject')).slice(0, 500),
      body: (isQuoted ? unquoted(body) : body).slice(0, LONGEST),
    });
  }

  /** What comes again with the same id is counted. */
  private async keep(entry: Omit<OutboxRow, 'repeats' | 'at'>): Promise<void> {
    await this.entries.query(
      `insert into outbox_entry (id, channel, to_address, subject, body) values ($1, $2, $3, $4, $5)
       on conflict (id) do update set repeats = outbox_entry.repeats + 1`,
      [entry.id, entry.channel, entry.to, entry.subject, entry.body],
    );
  }

  /** What has come, the newest first. */
  list(): Promise<Sent<readonly OutboxEntry[]>> {
    return this.entries.find({ order: { at: 'DESC' }, take: SHOWN });
  }
}

/** Listens on loopback. @returns the port; that of before where another process listens on it */
function listening(server: Server, port: number): Promise<number> {
  return new Promise((done, failed) => {
    server.once('error', (error: NodeJS.ErrnoException) => {
      if (error.code === 'EADDRINUSE' && port !== 0) done(port);
      else failed(error);
    });
    server.listen(port, '127.0.0.1', () => done((server.address() as AddressInfo).port));
  });
}

function titleIn(body: string): string {
  try {
    return String((JSON.parse(body) as { title?: unknown }).title ?? '').slice(0, 500);
  } catch {
    return '';
  }
}

/** The text of quoted-printable. */
function unquoted(text: string): string {
  const bytes = text
    .replaceAll(/=\r?\n/g, '')
    .replaceAll(/=([0-9A-F]{2})/gi, (_, hex: string) => String.fromCharCode(Number.parseInt(hex, 16)));
  return Buffer.from(bytes, 'latin1').toString('utf8');
}

/** The text of a header field, encoded words read. */
const decoded = (text: string): string =>
  text
    .replaceAll(/\?=[ ]+=\?/g, '?==?')
    .replaceAll(/=\?utf-8\?([bq])\?([^?]*)\?=/gi, (_, kind: string, value: string) =>
      kind.toLowerCase() === 'b' ? Buffer.from(value, 'base64').toString('utf8') : unquoted(value.replaceAll('_', ' ')),
    );
