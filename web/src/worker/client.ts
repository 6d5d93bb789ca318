import type { Answers, Request } from './protocol';

type Waiting = { resolve: (answer: never) => void; reject: (error: Error) => void };

/** The project's worker, as promises. */
class ProjectWorker {
  private readonly worker = new Worker(new URL('./project.worker.ts', import.meta.url), { type: 'module' });
  private readonly waiting = new Map<number, Waiting>();
  private next = 1;

  constructor() {
    this.worker.onmessage = ({ data }: MessageEvent<{ id: number; answer?: unknown; error?: string }>) => {
      const waiting = this.waiting.get(data.id);
      this.waiting.delete(data.id);
      if (data.error !== undefined) waiting?.reject(new Error(data.error));
      else waiting?.resolve(data.answer as never);
    };
  }

  ask<K extends Request['kind']>(request: Extract<Request, { kind: K }>): Promise<Answers[K]> {
    const id = this.next++;
    return new Promise<Answers[K]>((resolve, reject) => {
      this.waiting.set(id, { resolve: resolve as Waiting['resolve'], reject });
      this.worker.postMessage({ id, request });
    });
  }
}

export const projectWorker = new ProjectWorker();
