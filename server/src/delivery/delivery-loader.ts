import { remembering } from '../warehouse/loaded.js';
import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { fingerprints } from '@ouvrage/core/graph';
import { deliveryOptions, tableForFile } from '@ouvrage/core/intake';
import { SESSION_SETTINGS, targetPlace } from '@ouvrage/core/load';
import type { Environment, Place, Project, SourceTable } from '@ouvrage/core/model';
import { schemaNames } from '@ouvrage/core/resolve';
import { ident, qualified } from '@ouvrage/core/sql';
import { createHash } from 'node:crypto';
import { createReadStream } from 'node:fs';
import { stat } from 'node:fs/promises';
import { pipeline } from 'node:stream/promises';
import pg from 'pg';
import { Repository } from 'typeorm';
import { Loader, loaderOn } from '../load/loader.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { isConnectionLost } from '../shared/connection-lost.js';
import { isFullDisk, leftOnDisk } from '../shared/disk.js';
import { Problem } from '../shared/problem.js';
import { refuseErrors, sameColumns } from '../source/source-rules.js';
import { stagedLanding } from '../source/landing.js';
import { SourceStateService } from '../source/source-state.service.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { Delivery } from './delivery.entities.js';
import type { Outcome } from './drop-folder.js';
import { BadRow, isRepeatedKey, loadFile, repeatedKeys } from './load-file.js';
import { UnreadableFile } from './read-delivery.js';

/** A file that has come, and what its name says. */
export interface Arrival {
  /** Its whole path. */
  readonly file: string;
  readonly name: string;
  readonly parts: ReadonlyMap<string, string>;
  /** Bytes. */
  readonly size: number;
  readonly digest: string;
}

/** What is kept of a file that was read. */
export interface AboutFile {
  readonly table: string | null;
  readonly digest: string;
  /** Bytes. */
  readonly size: number;
  readonly milliseconds: number;
}

/** A file that was read, and the tables that its arrival is to run. */
export interface DeliveredFile {
  readonly outcome: Outcome;
  readonly of: AboutFile;
  readonly thenRun: readonly string[];
}

/** Loads a delivered file into the landing table whose pattern takes its name. */
@Injectable()
export class DeliveryLoader {
  constructor(
    @InjectRepository(Delivery) private readonly deliveries: Repository<Delivery>,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly states: SourceStateService,
  ) {}

  /**
   * Loads a file in one transaction, and says what became of it.
   * @param file its whole path
   * @throws where the connection to a database is lost
   */
  async load(file: string, name: string): Promise<DeliveredFile> {
    const started = performance.now();
    const { project } = await this.projects.line(PRODUCTION);
    const tables = [...project.tables.values()].filter(
      (t): t is SourceTable => t.kind === 'source' && project.servers.get(t.server)?.wrapper === 'file_fdw',
    );
    const found = tableForFile(tables, name);
    const { size } = await stat(file);
    const digest = await digestOf(file, found?.parts ?? new Map());
    const outcome: Outcome = found
      ? await this.warehouse.session('production', (client) =>
          this.loadInto(client, project, found.table, { file, name, parts: found.parts, size, digest }),
        )
      : { state: 'unknown', reason: 'no table of the project has a pattern that matches this name' };
    return {
      outcome,
      of: {
        table: found?.table.fullName ?? null,
        digest,
        size,
        milliseconds: Math.round(performance.now() - started),
      },
      thenRun: found && outcome.state === 'loaded' ? deliveryOptions(found.table)!.thenRun : [],
    };
  }

  private async loadInto(
    client: pg.ClientBase,
    project: Project,
    table: SourceTable,
    { file, name, parts, size, digest }: Arrival,
  ): Promise<Outcome> {
    if (size === 0) return { state: 'empty' };
    const before = await this.deliveries.findOne({
      where: { table: table.fullName, digest, state: 'loaded' },
      order: { id: 'DESC' },
    });
    // Rows that were set aside may be sound by now.
    if (before && (before.rejects ?? '0') === '0')
      return { state: 'repeated', reason: 'the same content was loaded before' };
    const environment = this.projects.environmentOf(undefined);
    await this.warehouse.prepare(environment, schemaNames(project.layers, project.tables.values()));
    const options = deliveryOptions(table)!;
    try {
      refuseErrors(project, table);
      await client.query(['begin', ...SESSION_SETTINGS, "set local datestyle = 'ISO, YMD'"].join(';\n'));
      const loader = loaderOn(client, environment);
      await makeLandingTable(client, loader, environment, table);
      const { rows, rejects, extra } = await loadFile({
        client,
        environment,
        table,
        options,
        file,
        name,
        parts,
        digest,
        isAgain: before !== null,
      });
      if (rows === 0 && rejects === 0 && before === null) {
        await client.query('rollback');
        return { state: 'empty' };
      }
      const target = targetPlace(environment, table);
      const { rows: counted } = await client.query<{ total: string }>(
        `select count(*) as total from ${qualified(target)}`,
      );
      await client.query(
        remembering(environment, table.fullName, {
          fingerprint: fingerprints(project).get(table.fullName)!,
          rows: counted[0]!.total,
          runId: 0,
        }),
      );
      await client.query('commit');
      await this.states.broughtIn(PRODUCTION, table.fullName, await this.newest(client, table, target));
      const reason = extra.length ? `the table does not declare ${extra.join(', ')}: ignored` : undefined;
      return {
        state: 'loaded',
        rows: String(rows),
        ...(options.setsAside ? { rejects: String(rejects) } : {}),
        ...(reason === undefined ? {} : { reason }),
      };
    } catch (error) {
      if (isConnectionLost(error)) throw error;
      await client.query('rollback');
      const repeated = isRepeatedKey(error)
        ? await repeatedKeys({ client, table, options, file, parts }).catch(() => undefined)
        : undefined;
      return { state: 'failed', reason: repeated ?? whyNotLoaded(error) };
    }
  }

  private async newest(client: pg.ClientBase, table: SourceTable, target: Place): Promise<string | null> {
    const watermark = table.contract.options.get('watermark')?.value;
    if (watermark === undefined) return null;
    return (
      await client.query<{ newest: string | null }>(
        `select cast(max(${ident(watermark)}) as text) as newest from ${qualified(target)}`,
      )
    ).rows[0]!.newest;
  }
}

/** Why a file was not loaded, in words. */
export function whyNotLoaded(error: unknown): string {
  if (error instanceof BadRow || error instanceof UnreadableFile) return error.message;
  if (error instanceof Problem) return `${error.title}${error.detail ? `. ${error.detail}` : ''}`;
  if (isFullDisk(error)) return `the disk is full. ${leftOnDisk()}`.trimEnd();
  return `the warehouse rejected it: ${error instanceof Error ? error.message : String(error)}`;
}

/** SHA-256 of a file's content and of what its name says. */
async function digestOf(file: string, parts: ReadonlyMap<string, string>): Promise<string> {
  const hash = createHash('sha256').update(JSON.stringify([...parts]));
  await pipeline(createReadStream(file), hash);
  return hash.digest('hex');
}

/** The landing table as it is declared; where it is declared otherwise than it stands, rows are adopted by the columns' names. */
async function makeLandingTable(
  client: pg.ClientBase,
  loader: Loader,
  environment: Environment,
  table: SourceTable,
): Promise<void> {
  const target = targetPlace(environment, table);
  if (await sameColumns(client, target, table)) return;
  const item = await stagedLanding(client, loader, environment, table);
  await loader.swaps.swap([item]);
}
