import { Inject, Injectable } from '@nestjs/common';
import { randomUUID } from 'node:crypto';
import { createWriteStream } from 'node:fs';
import { mkdir, readdir, readFile, rename, rm, stat, writeFile } from 'node:fs/promises';
import path from 'node:path';
import { Readable, Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { Config } from '../shared/config.js';
import { Problem } from '../shared/problem.js';
import { Delivery, type DeliveryState } from './delivery.entities.js';
import { currentTime } from '../shared/time.js';

/** Names in the drop folder that are folders of its own. */
export const OWN_NAMES: readonly string[] = ['archive', 'failed'];
/** What became of one file. */
export interface Outcome {
  readonly state: DeliveryState;
  readonly rows?: string;
  readonly rejects?: string;
  readonly reason?: string;
}

/** The drop folder: files come in whole, wait until nothing writes in them, and are put away by what became of them. */
@Injectable()
export class DropFolder {
  readonly folder: string;
  private readonly longest: number;

  constructor(@Inject(Config) config: Config) {
    this.folder = config.dropFolder;
    this.longest = config.longestUpload;
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
            'Split it, put it into the drop folder itself, or raise the limit with OUVRAGE_UPLOAD_BYTES.',
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

  /** Files that have not changed for some milliseconds, in the order of their names. */
  async waiting(settled: number): Promise<string[]> {
    await this.makeFolder();
    const entries = await readdir(this.folder, { withFileTypes: true });
    const names: string[] = [];
    for (const entry of entries.filter((e) => e.isFile() && !e.name.startsWith('.'))) {
      const found = await stat(path.join(this.folder, entry.name)).catch(() => undefined);
      if (found && Date.now() - found.mtimeMs >= settled) names.push(entry.name);
    }
    return names.sort((a, b) => Number(OWN_NAMES.includes(b)) - Number(OWN_NAMES.includes(a)) || (a < b ? -1 : 1));
  }

  /** The whole path of a file in the folder. */
  pathOf(name: string): string {
    return path.join(this.folder, name);
  }

  /** A file that has the name of one of the folders that files are put away in gets another one. @returns that name */
  async rename(name: string): Promise<string> {
    const free = `${name} ${randomUUID().slice(0, 8)}`;
    await rename(this.pathOf(name), this.pathOf(free));
    return free;
  }

  /** Notes beside a file that its reading begins. @returns how often it was begun before without an end */
  async begin(name: string): Promise<number> {
    const before = Number(await readFile(this.markOf(name), 'utf8').catch(() => '0'));
    await writeFile(this.markOf(name), String(before + 1));
    return before;
  }

  /** Removes the note of {@link begin}. */
  async end(name: string): Promise<void> {
    await rm(this.markOf(name), { force: true });
  }

  private markOf(name: string): string {
    return path.join(this.folder, `.${name.slice(0, 200)}.begun`);
  }

  /** To `archive/`, or to `failed/` beside a text that says why. A name that is taken there gets the time before it. @returns where, from the drop folder */
  async putAway(name: string, outcome: Outcome): Promise<string> {
    const well = ['loaded', 'empty', 'repeated'].includes(outcome.state);
    const folder = path.join(this.folder, well ? 'archive' : 'failed');
    await mkdir(folder, { recursive: true });
    const taken = (await readdir(folder)).includes(name);
    const kept = taken ? `${currentTime().toISOString().replace(/[:.]/g, '-')} ${name}` : name;
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
}
