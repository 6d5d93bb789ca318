import 'reflect-metadata';
import { NestFactory } from '@nestjs/core';
import { loadParser } from '@ouvrage/core';
import { AppModule } from './app.module.js';
import { configure } from './http.js';
import { Seeder } from './seeder.js';
import { Config } from './shared/config.js';
import { logger } from './shared/problem.js';
import { DeliveryService } from './source/delivery.service.js';

const tell = (message: Record<string, unknown>) => process.send?.(message);

const config = Config.fromEnvironment();
await loadParser();
const app = await NestFactory.create(AppModule.of(config), { logger: ['error', 'fatal'], bodyParser: false, abortOnError: false });
configure(app);

let ending = false;
const end = async (code: number): Promise<void> => {
  if (ending) return;
  ending = true;
  setTimeout(() => process.exit(code), 6000).unref();
  await app.close().catch((error: unknown) => logger.error(error));
  process.exit(code);
};
process.on('SIGTERM', () => void end(0));
process.on('SIGINT', () => void end(0));
// The process that started this one is gone: nobody would ever stop it.
process.on('disconnect', () => void end(1));

await app.listen(config.port, '127.0.0.1');
await app.get(Seeder).seed((text) => tell({ kind: 'progress', text }));
app.get(DeliveryService).watch();
tell({ kind: 'ready' });
