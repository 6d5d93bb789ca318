import 'reflect-metadata';
import { NestFactory } from '@nestjs/core';
import { loadParser } from '@ouvrage/core/sql';
import { AppModule } from './app.module.js';
import { configure } from './http.js';
import { DEMO_PASSWORD, Seeder } from './seeder.js';
import { PastService } from './standin/past.service.js';
import { Config } from './shared/config.js';
import { isConnectionLost } from './shared/connection-lost.js';
import { isFullDisk, watchDisk } from './shared/disk.js';
import { logger } from './shared/problem.js';
import { DeliveryWatcher } from './delivery/delivery-watcher.js';

const tell = (message: Record<string, unknown>) => process.send?.(message);

const config = Config.fromEnvironment();
await loadParser();
const app = await NestFactory.create(AppModule.of(config), {
  logger: ['error', 'fatal'],
  bodyParser: false,
  abortOnError: false,
});
configure(app);
watchDisk(config.data);

let ending = false;
const end = async (code: number): Promise<void> => {
  if (ending) return;
  ending = true;
  setTimeout(() => process.exit(code), 6000).unref();
  await app.close().catch((error: unknown) => logger.error(error));
  process.exit(code);
};
/** What nobody has caught may have left anything half-done in this process: it ends, and is started again. */
const fatal = (error: unknown): void => {
  logger.fatal({ err: error }, 'an error that nobody caught: the server ends');
  // A log that goes into a pipe may be cut off by the end of the process.
  process.stderr.write(`${error instanceof Error ? error.stack : String(error)}\n`);
  void end(70);
};
/** A connection to which nobody listens at the moment is lost without anything being half-done: who waits for its answer is told. */
process.on('uncaughtException', (error) =>
  isConnectionLost(error) ? logger.error({ err: error }, 'the database went away') : fatal(error),
);
/**
 * The queue's library writes down how jobs ended beside its own work, and ends its workers where its database goes
 * away; it lets both fail without anybody who could catch it. `RunQueue` starts workers again, and puts right what could
 * not be written.
 */
const isOfQueue = (error: unknown): boolean =>
  error instanceof Error && /[\\/]graphile-worker[\\/]/.test(error.stack ?? '');
process.on('unhandledRejection', (error) =>
  isConnectionLost(error) || isFullDisk(error) || isOfQueue(error)
    ? logger.error({ err: error }, 'the database went away')
    : fatal(error),
);
process.on('SIGTERM', () => void end(0));
process.on('SIGINT', () => void end(0));
// The process that started this one is gone: nobody would ever stop it.
process.on('disconnect', () => void end(1));

await app.listen(config.port, '127.0.0.1');
await app.get(Seeder).seed((text) => tell({ kind: 'progress', text }));
app.get(DeliveryWatcher).watch();
tell({ kind: 'ready' });
const stage = { address: `http://127.0.0.1:${config.port}`, password: DEMO_PASSWORD };
void app
  .get(PastService)
  .play(stage, (text) => tell({ kind: 'progress', text }))
  .catch((error: unknown) => logger.error({ err: error }, 'the past of the demo was not played'));
