import { indexFile, restored, tooSlow } from '@ouvrage/core/index';
import type { IndexedFile } from '@ouvrage/core/model';
import { once } from 'node:events';
import { fileURLToPath } from 'node:url';
import { Worker } from 'node:worker_threads';

/** Shorter files are read at once: measured, 30,000 characters take about 20 ms. */
const LARGE = 30_000;
/** How long the reading of one file may take. */
const LIMIT_MILLISECONDS = 5000;
const WORKER = fileURLToPath(new URL('../../dist/project/index-worker.js', import.meta.url));

/** Reads files of the project; large ones in a thread of their own, one at a time, each with a time limit. */
export class FileIndexer {
  private worker: Promise<Worker> | undefined;
  private last: Promise<unknown> = Promise.resolve();

  constructor(private readonly limit = LIMIT_MILLISECONDS) {}

  async close(): Promise<void> {
    await (await this.worker?.catch(() => undefined))?.terminate();
  }

  /** Whether a file is read in the thread of its own. */
  isLarge(text: string): boolean {
    return text.length > LARGE;
  }

  /** A file that takes too long has an error that says so, and nothing else. */
  index(path: string, text: string): Promise<IndexedFile> {
    if (!this.isLarge(text)) return Promise.resolve(indexFile(path, text));
    const turn = this.last.then(() => this.inThread(path, text));
    this.last = turn.catch(() => undefined);
    return turn;
  }

  private async inThread(path: string, text: string): Promise<IndexedFile> {
    const worker = await (this.worker ??= start());
    const controller = new AbortController();
    const timer = setTimeout(() => controller.abort(), this.limit);
    try {
      worker.postMessage({ path, text });
      const [file] = (await Promise.race([once(worker, 'message', { signal: controller.signal }), died(worker)])) as [
        IndexedFile,
      ];
      return restored(file);
    } catch {
      this.worker = undefined;
      void worker.terminate();
      return tooSlow(path, text, this.limit);
    } finally {
      clearTimeout(timer);
      worker.removeAllListeners('exit');
    }
  }
}

/** Its memory has a limit, too: what does not fit ends the thread, and not the server. */
async function start(): Promise<Worker> {
  const worker = new Worker(WORKER, { resourceLimits: { maxOldGenerationSizeMb: 700 } });
  worker.on('error', () => undefined);
  worker.unref();
  await once(worker, 'message');
  return worker;
}

const died = (worker: Worker): Promise<never> =>
  new Promise((_, reject) => worker.once('exit', () => reject(new Error('the thread has ended'))));
