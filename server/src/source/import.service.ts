import type { ProposedFile } from '@ouvrage/api/project';
import type { CatalogAnswer } from '@ouvrage/api/source';
import { Injectable } from '@nestjs/common';
import { driftOf, drifted, importTables, type Drift } from '@ouvrage/core/intake';
import { remotePlace, type SourceTable } from '@ouvrage/core/model';
import { PeopleService } from '../people/people.service.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService, type Line } from '../project/project.service.js';
import { notFound, Problem } from '../shared/problem.js';
import { describeTables, listTables } from '../connection/catalog.js';
import { ConnectionService } from '../connection/connection.service.js';
import type { Connection } from '../connection/connection.entities.js';
import { SourceStateService } from './source-state.service.js';

/** Looks at other databases' catalogs and declares their tables in the project. */
@Injectable()
export class ImportService {
  constructor(
    private readonly connections: ConnectionService,
    private readonly states: SourceStateService,
    private readonly projects: ProjectService,
    private readonly people: PeopleService,
  ) {}

  /** Tables of a connection, and which of them the project has declared already. */
  async catalog(line: Line, connection: string): Promise<CatalogAnswer> {
    const known = await this.connections.known(connection);
    const server = await this.serverOf(line, known);
    const declared = new Map(declaredIn(line, server).map((t) => [placeKey(remotePlace(t)), t.fullName]));
    const client = await this.connections.openConnection(known);
    try {
      const isBound = (await this.connections.bound('production')).has(server);
      const tables = (await listTables(client)).map((t) => ({ ...t, declared: declared.get(placeKey(t)) ?? null }));
      return { server, isBound, administrators: await this.people.administrators(), tables };
    } finally {
      await client.end().catch(() => undefined);
    }
  }

  /** The files that declare chosen tables; nothing is kept yet. */
  async propose(
    line: Line,
    connection: string,
    chosen: readonly { readonly schema: string; readonly name: string }[],
  ): Promise<ProposedFile[]> {
    const known = await this.connections.known(connection);
    const client = await this.connections.openConnection(known);
    try {
      const tables = await describeTables(client, chosen);
      const gone = chosen.filter((c) => !tables.some((t) => placeKey(t) === placeKey(c)));
      if (gone.length) throw notFound(`The table ${gone.map(placeKey).join(', ')}`);
      const layer = line.project.layers.some((l) => l.name === 'landing') ? 'landing' : line.project.layers[0]?.name;
      if (layer === undefined)
        throw new Problem(409, 'no-layer', 'The project has no layer', 'Write create schema landing in layers.sql.');
      const files = importTables(line.project, { server: await this.serverOf(line, known), layer }, tables);
      return [...files].map(([path, after]) => ({ path, before: line.project.files.get(path)?.text ?? null, after }));
    } finally {
      await client.end().catch(() => undefined);
    }
  }

  /** Holds declared tables of a server against the system now, and remembers the result. */
  async compare(line: Line, server: string, names: readonly string[]): Promise<Map<string, Drift | null>> {
    const tables = declaredIn(line, server).filter((t) => names.length === 0 || names.includes(t.fullName));
    const client = await this.connections.open(server, 'production');
    try {
      const actual = new Map((await describeTables(client, tables.map(remotePlace))).map((t) => [placeKey(t), t]));
      const found = new Map<string, Drift | null>();
      for (const table of tables) {
        const there = actual.get(placeKey(remotePlace(table)));
        const drift: Drift = there
          ? driftOf(table, there)
          : { added: [], dropped: table.contract.columns.map((c) => c.name), retyped: [] };
        found.set(table.fullName, drifted(drift) ? drift : null);
        await this.states.compared('production', table.fullName, drifted(drift) ? drift : null);
      }
      return found;
    } finally {
      await client.end().catch(() => undefined);
    }
  }

  /** The files of declared tables with what drifted adopted; nothing is kept yet. */
  async takeOver(line: Line, server: string, names: readonly string[]): Promise<ProposedFile[]> {
    const tables = declaredIn(line, server).filter((t) => names.includes(t.fullName));
    if (tables.length === 0) throw notFound(`The source table ${names.join(', ')}`);
    const client = await this.connections.open(server, 'production');
    try {
      const files = importTables(
        line.project,
        { server, layer: tables[0]!.layer },
        await describeTables(client, tables.map(remotePlace)),
      );
      return [...files].map(([path, after]) => ({ path, before: line.project.files.get(path)?.text ?? null, after }));
    } finally {
      await client.end().catch(() => undefined);
    }
  }

  /** The server that a connection stands for in the project, or one of its own name to be made. */
  private async serverOf(line: Line, connection: Connection): Promise<string> {
    const bound = await this.connections.bound('production');
    const found = [...bound].find(([server, c]) => c.id === connection.id && line.project.servers.has(server))?.[0];
    return found ?? connection.name;
  }

  /** Servers that some line of work declares tables of, and that nobody has bound yet: for administrators. */
  async unbound(): Promise<{ readonly server: string; readonly workspaces: readonly string[] }[]> {
    const bound = await this.connections.bound('production');
    const found = new Map<string, string[]>();
    for (const slug of [PRODUCTION, ...(await this.projects.changed()).map((w) => w.slug)]) {
      for (const { name, wrapper } of await this.projects.serversOf(slug))
        if (name !== 'warehouse' && wrapper !== 'file_fdw' && !bound.has(name))
          found.set(name, [...(found.get(name) ?? []), slug]);
    }
    return [...found].map(([server, workspaces]) => ({ server, workspaces }));
  }

  /** Binds a server that an import has just made to the connection that it was made from. */
  async bindNew(connection: string, server: string): Promise<void> {
    if (!(await this.connections.bound('production')).has(server))
      await this.connections.bindEverywhere(server, connection);
  }
}

const placeKey = ({ schema, name }: { readonly schema: string; readonly name: string }) => `${schema}.${name}`;

const declaredIn = (line: Line, server: string) =>
  [...line.project.tables.values()].filter((t): t is SourceTable => t.kind === 'source' && t.server === server);
