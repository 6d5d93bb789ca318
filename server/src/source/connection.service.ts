import { Inject, Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import pg from 'pg';
import { Repository } from 'typeorm';
import { Config, type DatabaseAddress } from '../shared/config.js';
import { Problem } from '../shared/problem.js';
import { seal, unseal } from '../shared/secret.js';
import { Connection } from './source.entities.js';

/** Where the servers of the project really are; secrets are opened here and nowhere else. */
@Injectable()
export class ConnectionService {
  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectRepository(Connection) private readonly connections: Repository<Connection>,
  ) {}

  async bind(server: string, address: DatabaseAddress): Promise<void> {
    const { host, port, database, user, password } = address;
    await this.connections.upsert({ server, host, port, database, user, secret: seal(this.config.key, password) }, ['server']);
  }

  /** All bindings, without secrets. */
  async list(): Promise<({ server: string } & Omit<DatabaseAddress, 'password'>)[]> {
    return (await this.connections.find({ order: { server: 'ASC' } })).map(({ server, host, port, database, user }) => ({
      server,
      host,
      port,
      database,
      user,
    }));
  }

  /** A client of the database that a server is bound to, connected. @throws Problem in plain words */
  async open(server: string): Promise<pg.Client> {
    const found = await this.connections.findOneBy({ server });
    if (!found) throw new Problem(409, 'not-bound', `The server ${server} is bound to no connection`, 'Bind it in Settings.');
    const { host, port, database, user } = found;
    const client = new pg.Client({
      host,
      port,
      database,
      user,
      password: unseal(this.config.key, found.secret),
      connectionTimeoutMillis: 10_000,
      application_name: 'ouvrage intake',
    });
    client.on('error', () => undefined);
    try {
      await client.connect();
    } catch (error) {
      throw new Problem(
        502,
        'unreachable',
        `The system ${server} (${host}:${port}, database ${database}) cannot be reached`,
        error instanceof Error ? error.message : String(error),
      );
    }
    return client;
  }
}
