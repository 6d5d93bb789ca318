import 'reflect-metadata';
import { NestFactory } from '@nestjs/core';
import { loadParser } from '@ouvrage/core';
import { AppModule } from './app.module.js';
import { configure } from './http.js';
import { Seeder } from './seeder.js';
import { Config } from './shared/config.js';
import { isConnectionLost } from './shared/connection-lost.js';
import { isFullDisk, watchDisk } from './shared/disk.js';
import { logger } from './shared/problem.js';
import { DeliveryService } from './source/delivery.service.js';

const tell = (message: Record<string, unknown>) => process.send?.(message);

const config = Config.fromEnvironment();
await loadParser();
const app = await NestFactory.create(AppModule.of(config), { logger: ['error', 'fatal'], bodyParser: false, abortOnError: false });
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
  void end(70);
};
process.on('uncaughtException', fatal);
/**
 * The queue's library writes down how jobs ended beside its own work, and lets that fail where its database goes away.
 * What it could not write is put right by `RunService`, which looks for runs that nobody works on.
 */
process.on('unhandledRejection', (error) =>
  isConnectionLost(error) || isFullDisk(error) ? logger.error({ err: error }, 'the database went away') : fatal(error),
);
process.on('SIGTERM', () => void end(0));
process.on('SIGINT', () => void end(0));
// The process that started this one is gone: nobody would ever stop it.
process.on('disconnect', () => void end(1));

await app.listen(config.port, '127.0.0.1');
await app.get(Seeder).seed((text) => tell({ kind: 'progress', text }));
app.get(DeliveryService).watch();
tell({ kind: 'ready' });
