import { loaderOn } from '../load/loader.js';
import { Inject, Injectable, type OnApplicationShutdown } from '@nestjs/common';
import { InjectDataSource, InjectRepository } from '@nestjs/typeorm';
import { fingerprints } from '@ouvrage/core/graph';
import { deliveryOptions, tableForFile } from '@ouvrage/core/intake';
import { SESSION_SETTINGS, targetPlace } from '@ouvrage/core/load';
import type { Environment, Place, Project, SourceTable } from '@ouvrage/core/model';
import { schemaNames } from '@ouvrage/core/resolve';
import { ident, qualified } from '@ouvrage/core/sql';
import { createHash, randomUUID } from 'node:crypto';
import { createReadStream, createWriteStream } from 'node:fs';
import { mkdir, readdir, readFile, rename, rm, stat, writeFile } from 'node:fs/promises';
import path from 'node:path';
import { Transform, type Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type pg from 'pg';
import { DataSource, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PRODUCTION, ProjectService } from '../project/project.service.js';
import { RunService } from '../run/run.service.js';
import { Config } from '../shared/config.js';
import { isConnectionLost } from '../shared/connection-lost.js';
import { isFullDisk, leftOnDisk } from '../shared/disk.js';
import { logger, Problem } from '../shared/problem.js';
import type { Loader } from '../load/loader.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { refuseErrors, sameColumns } from '../source/intake.service.js';
import { Delivery, type DeliveryState } from './delivery.entities.js';
import { landingBeside } from '../source/landing.js';
import { BadRow, isRepeatedKey, loadFile, repeatedKeys } from './load-file.js';
import { UnreadableFile } from './read-delivery.js';
import { SourceStateService } from '../source/source-state.service.js';

const POLL_MILLISECONDS = 3000;
/** A file that changed within this time may still be being written. */
const SETTLED_MILLISECONDS = 2000;

/** Names in the drop folder that are folders of its own. */
const OWN_NAMES: readonly string[] = ['archive', 'failed'];
/** A file whose reading was begun so often without an end is not read again. */
const MOST_BEGINNINGS = 2;

/** Who runs what a file's arrival triggers. */
const DROP_FOLDER = { name: 'drop folder', displayName: 'Drop folder', role: 'releaser' } as Person;

interface Outcome {
  readonly state: DeliveryState;
  readonly rows?: string;
  readonly rejects?: string;
  readonly reason?: string;
}

/** A file that has come, and what its name says. */
interface Arrival {
  /** Its whole path. */
  readonly file: string;
  readonly name: string;
  readonly parts: ReadonlyMap<string, string>;
  /** Bytes. */
  readonly size: number;
  readonly digest: string;
}

/** Watches the drop folder, and loads each file into the landing table whose pattern takes its name. */
@Injectable()
export class DeliveryService implements OnApplicationShutdown {
  readonly folder: string;
  private readonly longest: number;
  private timer: NodeJS.Timeout | undefined;
  private going: Promise<void> | undefined;

  constructor(
    @Inject(Config) config: Config,
    @InjectRepository(Delivery) private readonly deliveries: Repository<Delivery>,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly runs: RunService,
    private readonly states: SourceStateService,
    @InjectDataSource() private readonly source: DataSource,
  ) {
    this.folder = config.dropFolder;
    this.longest = config.longestUpload;
  }

  /** Looks into the folder from now on; where a look is still going on, the next one waits. */
  watch(): void {
    this.timer ??= setInterval(() => {
      this.going ??= this.look(SETTLED_MILLISECONDS)
        .catch((error: unknown) => logger.warn(error))
        .finally(() => (this.going = undefined));
    }, POLL_MILLISECONDS);
  }

  async onApplicationShutdown(): Promise<void> {
    clearInterval(this.timer);
    await this.going;
  }

  /**
   * Puts a file into the folder as a whole: it has its name only when all of it is there.
   * @throws Problem for a name of the folder's own, and where the body is longer than a file may be
   */
  async receive(name: string, body: Readable): Promise<void> {
    if (OWN_NAMES.includes(name))
      throw new Problem(
        400,
        'bad-name',
        `${name} is the name of a folder of the drop folder`,
        'Give the file another name.',
      );
    await this.makeFolder();
    const part = path.join(this.folder, `.${randomUUID()}.part`);
    let bytes = 0;
    const counted = new Transform({
      transform: (chunk: Buffer, _, done) => {
        bytes += chunk.length;
        if (bytes <= this.longest) return done(null, chunk);
        done(
          new Problem(
            413,
            'too-long',
            `The file is longer than ${this.longest} bytes`,
            'Split it, put it into the drop folder itself, or have the limit raised: OUVRAGE_UPLOAD_BYTES.',
          ),
        );
      },
    });
    try {
      await pipeline(body, counted, createWriteStream(part));
      await rename(part, path.join(this.folder, name));
    } catch (error) {
      await rm(part, { force: true });
      throw error;
    }
  }

  private async makeFolder(): Promise<void> {
    await mkdir(this.folder, { recursive: true, mode: 0o700 });
  }

  /**
   * Takes all files that are there and have not changed for some time. One process at a time: the
   * others find the lock taken and leave. What goes wrong with one file is told of that file.
   */
  async look(settled: number): Promise<void> {
    const names = await this.waiting(settled);
    if (names.length === 0) return;
    await this.alone(async () => {
      const run = new Set<string>();
      for (const name of names) for (const table of await this.take(name)) run.add(table);
      if (run.size) await this.trigger([...run]);
    });
  }

  /** Does something while no other process does: a lock of the application's database, which no query of a person reaches. */
  private async alone(work: () => Promise<void>): Promise<void> {
    const runner = this.source.createQueryRunner();
    await runner.connect();
    try {
      const [lock] = (await runner.query(`select pg_try_advisory_lock(hashtext('ouvrage deliveries')) as mine`)) as {
        mine: boolean;
      }[];
      if (!lock!.mine) return;
      try {
        await work();
      } finally {
        await runner.query(`select pg_advisory_unlock(hashtext('ouvrage deliveries'))`);
      }
    } finally {
      await runner.release();
    }
  }

  private async waiting(settled: number): Promise<string[]> {
    await this.makeFolder();
    const entries = await readdir(this.folder, { withFileTypes: true });
    const names: string[] = [];
    for (const entry of entries.filter((e) => e.isFile() && !e.name.startsWith('.'))) {
      const found = await stat(path.join(this.folder, entry.name)).catch(() => undefined);
      if (found && Date.now() - found.mtimeMs >= settled) names.push(entry.name);
    }
    return names.sort((a, b) => Number(OWN_NAMES.includes(b)) - Number(OWN_NAMES.includes(a)) || (a < b ? -1 : 1));
  }

  /**
   * Takes one file. How often that was begun is kept beside it: a file that the server did not survive twice is put
   * away before it is read again.
   * @returns the tables that the file's arrival is to run
   */
  private async take(name: string): Promise<readonly string[]> {
    if (OWN_NAMES.includes(name)) return this.freeName(name);
    const mark = path.join(this.folder, `.${name.slice(0, 200)}.begun`);
    try {
      const before = Number(await readFile(mark, 'utf8').catch(() => '0'));
      if (before >= MOST_BEGINNINGS) {
        await this.ended(name, { state: 'failed', reason: `the server ended ${before} times while it read this file` });
        return [];
      }
      await writeFile(mark, String(before + 1));
      return await this.taken(name);
    } catch (error) {
      logger.warn(error);
      // It stays where it is until the database is back.
      if (!isConnectionLost(error))
        await this.ended(name, { state: 'failed', reason: told(error) }).catch((e: unknown) => logger.warn(e));
      return [];
    } finally {
      await rm(mark, { force: true });
    }
  }

  /** A file that bears the name of one of the folders that files are put away in gets another one. */
  private async freeName(name: string): Promise<readonly string[]> {
    const free = `${name} ${randomUUID().slice(0, 8)}`;
    await rename(path.join(this.folder, name), path.join(this.folder, free));
    return this.take(free);
  }

  private async taken(name: string): Promise<readonly string[]> {
    const started = performance.now();
    const file = path.join(this.folder, name);
    const { project } = await this.projects.line(PRODUCTION);
    const tables = [...project.tables.values()].filter(
      (t): t is SourceTable => t.kind === 'source' && project.servers.get(t.server)?.wrapper === 'file_fdw',
    );
    const found = tableForFile(tables, name);
    const { size } = await stat(file);
    const digest = await digestOf(file, found?.parts ?? new Map());
    const outcome = found
      ? await this.warehouse.session('production', (client) =>
          this.load(client, project, found.table, { file, name, parts: found.parts, size, digest }),
        )
      : { state: 'unknown' as const, reason: 'no table of the project has a pattern that takes this name' };
    await this.ended(name, outcome, {
      table: found?.table.fullName ?? null,
      digest,
      size,
      milliseconds: Math.round(performance.now() - started),
    });
    return outcome.state === 'loaded' ? deliveryOptions(found!.table)!.thenRun : [];
  }

  /** Records what became of a file, and puts it away. */
  private async ended(
    name: string,
    outcome: Outcome,
    of: Partial<{ table: string | null; digest: string; size: number; milliseconds: number }> = {},
  ): Promise<void> {
    const kept = await this.putAway(name, outcome);
    await this.deliveries.insert({
      file: name,
      kept,
      table: of.table ?? null,
      digest: of.digest ?? '',
      state: outcome.state,
      bytes: String(of.size ?? 0),
      rows: outcome.rows ?? null,
      rejects: outcome.rejects ?? null,
      reason: outcome.reason ?? null,
      milliseconds: of.milliseconds ?? 0,
    });
  }

  private async load(
    client: pg.PoolClient,
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
        this.warehouse.remembering(environment, table.fullName, {
          fingerprint: fingerprints(project).get(table.fullName)!,
          rows: counted[0]!.total,
          runId: 0,
        }),
      );
      await client.query('commit');
      await this.states.broughtIn(PRODUCTION, table.fullName, await this.newest(client, table, target));
      const reason = extra.length ? `the table does not declare ${extra.join(', ')}: left out` : undefined;
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
      return { state: 'failed', reason: repeated ?? told(error) };
    }
  }

  private async newest(client: pg.PoolClient, table: SourceTable, target: Place): Promise<string | null> {
    const watermark = table.contract.options.get('watermark')?.value;
    if (watermark === undefined) return null;
    return (
      await client.query<{ newest: string | null }>(
        `select cast(max(${ident(watermark)}) as text) as newest from ${qualified(target)}`,
      )
    ).rows[0]!.newest;
  }

  /** To `archive/`, or to `failed/` beside a text that says why. A name that is taken there gets the time before it. @returns where, from the drop folder */
  private async putAway(name: string, outcome: Outcome): Promise<string> {
    const well = ['loaded', 'empty', 'repeated'].includes(outcome.state);
    const folder = path.join(this.folder, well ? 'archive' : 'failed');
    await mkdir(folder, { recursive: true });
    const taken = (await readdir(folder)).includes(name);
    const kept = taken ? `${new Date().toISOString().replace(/[:.]/g, '-')} ${name}` : name;
    await rename(path.join(this.folder, name), path.join(folder, kept));
    if (!well) await writeFile(path.join(folder, `${kept}.why.txt`), `${outcome.reason ?? 'it could not be loaded'}\n`);
    return path.join(well ? 'archive' : 'failed', kept);
  }

  /**
   * Puts a file that was put away into the folder again, under the name that it came with.
   * @throws Problem where it is no longer kept, or another of its name is waiting
   */
  async putBack({ file, kept, state }: Delivery): Promise<void> {
    const from = kept ?? path.join(state === 'failed' || state === 'unknown' ? 'failed' : 'archive', file);
    const there = await readdir(this.folder);
    if (there.includes(file))
      throw new Problem(
        409,
        'file-waits',
        `Another ${file} is waiting in the drop folder`,
        'Wait until it has been taken.',
      );
    try {
      await rename(path.join(this.folder, from), path.join(this.folder, file));
    } catch {
      throw new Problem(409, 'file-gone', `${from} is no longer in the drop folder`, 'Deliver the file again.');
    }
    await rm(path.join(this.folder, `${from}.why.txt`), { force: true });
  }

  private async trigger(tables: readonly string[]): Promise<void> {
    await this.runs
      .build(DROP_FOLDER, PRODUCTION, { tables, upstream: true, downstream: false })
      .catch((error: unknown) => logger.warn(error));
  }
}

/** Why a file was not loaded, in words. */
function told(error: unknown): string {
  if (error instanceof BadRow || error instanceof UnreadableFile) return error.message;
  if (error instanceof Problem) return `${error.title}${error.detail ? `. ${error.detail}` : ''}`;
  if (isFullDisk(error)) return `the disk is full. ${leftOnDisk()}`.trimEnd();
  return `the warehouse refused it: ${error instanceof Error ? error.message : String(error)}`;
}

async function digestOf(file: string, parts: ReadonlyMap<string, string>): Promise<string> {
  const hash = createHash('sha256').update(JSON.stringify([...parts]));
  await pipeline(createReadStream(file), hash);
  return hash.digest('hex');
}

/** The landing table as it is declared; where it is declared otherwise than it stands, rows are taken over by the columns' names. */
async function makeLandingTable(
  client: pg.PoolClient,
  loader: Loader,
  environment: Environment,
  table: SourceTable,
): Promise<void> {
  const target = targetPlace(environment, table);
  if (await sameColumns(client, target, table)) return;
  const item = await landingBeside(client, loader, environment, table);
  await loader.swaps.swap([item]);
}
