import type { ConnectionEntry, ConnectionInput, ConnectionTest } from '@ouvrage/api/connection';
import { WAREHOUSE_SERVER } from '@ouvrage/core/model';
import { Inject, Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type pg from 'pg';
import { Not, Repository } from 'typeorm';
import { Config, type DatabaseAddress } from '../shared/config.js';
import { notFound, Problem } from '../shared/problem.js';
import { seal, unseal } from '../shared/secret.js';
import { lookAround, reach, Unreachable } from './reach.js';
import type { BoundEnvironment } from '@ouvrage/api/connection';
import { Binding, BOUND_ENVIRONMENTS, Connection } from './connection.entities.js';

/** Databases of others, and which of them the project's servers stand for; secrets are opened here and nowhere else. */
@Injectable()
export class ConnectionService {
  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectRepository(Connection) private readonly connections: Repository<Connection>,
    @InjectRepository(Binding) private readonly bindings: Repository<Binding>,
  ) {}

  async list(): Promise<ConnectionEntry[]> {
    const [connections, bindings] = await Promise.all([
      this.connections.find({ order: { name: 'ASC' } }),
      this.bindings.find({ order: { server: 'ASC' } }),
    ]);
    return connections.map(({ id, name, host, port, database, user, tls }) => ({
      id,
      name,
      host,
      port,
      database,
      user,
      tls,
      bound: bindings.filter((b) => b.connection.id === id).map(({ server, environment }) => ({ server, environment })),
    }));
  }

  /** Connections of the project's servers in one kind of environment, by server. */
  async bound(environment: BoundEnvironment): Promise<Map<string, Connection>> {
    return new Map((await this.bindings.findBy({ environment })).map((b) => [b.server, b.connection]));
  }

  async create({ password, ...input }: ConnectionInput): Promise<string> {
    if (!password)
      throw new Problem(
        422,
        'no-password',
        'A connection needs a password',
        'Type the password of the database’s user.',
      );
    await this.refuseTaken(input.name);
    const { identifiers } = await this.connections.insert({ ...input, secret: seal(this.config.key, password) });
    return identifiers[0]!['id'] as string;
  }

  async update(id: string, { password, ...input }: ConnectionInput): Promise<void> {
    const known = await this.known(id);
    await this.refuseTaken(input.name, id);
    if (password === undefined && (known.host !== input.host || known.port !== input.port))
      throw new Problem(
        422,
        'no-password',
        'A different host needs the password again',
        'The stored password is only sent to the host that it was entered for.',
      );
    await this.connections.update(id, {
      ...input,
      ...(password === undefined ? {} : { secret: seal(this.config.key, password) }),
    });
  }

  async remove(id: string): Promise<Connection> {
    const known = await this.known(id);
    await this.connections.delete(id);
    return known;
  }

  /** Binds a server of the project; null takes the binding away. */
  async bind(server: string, environment: BoundEnvironment, connection: string | null): Promise<void> {
    if (connection === null) await this.bindings.delete({ server, environment });
    else
      await this.bindings.upsert({ server, environment, connection: await this.known(connection) }, [
        'server',
        'environment',
      ]);
  }

  async bindEverywhere(server: string, connection: string): Promise<void> {
    for (const environment of BOUND_ENVIRONMENTS) await this.bind(server, environment, connection);
  }

  /** Tries a connection: as typed, or a known one with its kept secret. */
  async test(input: ConnectionInput, id?: string): Promise<ConnectionTest> {
    let { password } = input;
    if (password === undefined && id !== undefined) {
      const known = await this.known(id);
      // A kept secret goes nowhere but to the machine that it was given for.
      if (known.host === input.host && known.port === input.port) password = unseal(this.config.key, known.secret);
    }
    if (password === undefined)
      return {
        ok: false,
        part: 'password',
        message: 'No password is set',
        remedy: 'Type the password of the database’s user.',
      };
    try {
      return { ok: true, ...(await lookAround({ ...input, password })) };
    } catch (error) {
      if (!(error instanceof Unreachable)) throw error;
      return { ok: false, part: error.part, message: error.message, remedy: error.remedy };
    }
  }

  /** A client of the database that a server is bound to, connected. @throws Problem in plain words */
  async open(server: string, environment: BoundEnvironment): Promise<pg.Client> {
    // What is in the warehouse is read as who builds there.
    if (server === WAREHOUSE_SERVER)
      return reach({ ...this.config.warehouse[environment === 'production' ? 'production' : 'workspace'], tls: 'off' });
    const binding = await this.bindings.findOneBy({ server, environment });
    if (!binding)
      throw new Problem(
        409,
        'not-bound',
        `The server ${server} is not bound to a connection for ${environment}`,
        'An administrator can bind it in Settings, Connections.',
      );
    return this.openConnection(binding.connection);
  }

  /** Where the warehouse is, as people are told. */
  warehouse(): Pick<DatabaseAddress, 'host' | 'port' | 'database' | 'user'> {
    return this.config.warehouse.production;
  }

  async openConnection({ host, port, database, user, secret, tls, name }: Connection): Promise<pg.Client> {
    try {
      return await reach({ host, port, database, user, tls, password: unseal(this.config.key, secret) });
    } catch (error) {
      if (!(error instanceof Unreachable)) throw error;
      throw new Problem(502, 'unreachable', `The connection ${name} does not work: ${error.message}`, error.remedy);
    }
  }

  async known(id: string): Promise<Connection> {
    const found = await this.connections.findOneBy({ id });
    if (!found) throw notFound('The connection');
    return found;
  }

  /** The stand-in's database may have another port than the last time: a folder that was copied reaches its own. */
  async moved({ host, port, database, user }: DatabaseAddress): Promise<void> {
    await this.connections.update({ name: 'port_ops', host, database, user, port: Not(port) }, { port });
  }

  private async refuseTaken(name: string, id?: string): Promise<void> {
    const other = await this.connections.findOneBy({ name });
    if (other && other.id !== id)
      throw new Problem(409, 'name-taken', `A connection named ${name} already exists`, 'Choose another name.');
  }
}
