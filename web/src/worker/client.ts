import { WorkerChannel } from './channel';

/** The project's worker, as promises. */
export const projectWorker = new WorkerChannel(
  () => new Worker(new URL('./project.worker.ts', import.meta.url), { type: 'module' }),
);
