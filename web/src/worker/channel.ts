import type { ProblemBody } from '@ouvrage/api/problem';
import type { Answers, Request } from './protocol';

/** A failure of the worker as people are told of it. */
export const readerProblem = (error: Error): ProblemBody => ({
  code: 'reader',
  status: 0,
  title: 'The project could not be read here',
  detail: error.message,
});

interface Waiting {
  readonly resolve: (answer: never) => void;
  readonly reject: (error: Error) => void;
  readonly timer: ReturnType<typeof setTimeout>;
}

/** What of a worker is used. */
export type Port = Pick<Worker, 'postMessage' | 'terminate' | 'onmessage' | 'onerror' | 'onmessageerror'>;

/** Reading a project of 5,000 definitions takes some seconds; what takes this long will not come. */
const LIMIT_MILLISECONDS = 60_000;

/**
 * Questions to a worker, as promises. A worker that cannot be started, dies or does not answer fails the questions
 * that wait, and the next question starts another one, which is told the project first.
 */
export class WorkerChannel {
  private port: Port | undefined;
  private readonly waiting = new Map<number, Waiting>();
  private next = 1;
  private opened: Extract<Request, { kind: 'open' }> | undefined;

  constructor(
    private readonly make: () => Port,
    private readonly limit = LIMIT_MILLISECONDS,
  ) {}

  ask<K extends Request['kind']>(request: Extract<Request, { kind: K }>): Promise<Answers[K]> {
    const isNew = this.port === undefined;
    if (request.kind === 'open') this.opened = request as Extract<Request, { kind: 'open' }>;
    return new Promise<Answers[K]>((resolve, reject) => {
      try {
        const port = (this.port ??= this.started());
        // A new worker knows no project yet.
        if (isNew && request.kind !== 'open' && this.opened)
          this.send(port, this.opened, { resolve: () => undefined, reject: () => undefined });
        this.send(port, request, { resolve: resolve as Waiting['resolve'], reject });
      } catch (error) {
        this.fail(error instanceof Error ? error.message : String(error));
        reject(
          new Error(
            `The project’s reader could not be started: ${error instanceof Error ? error.message : String(error)}`,
          ),
        );
      }
    });
  }

  private send(port: Port, request: Request, { resolve, reject }: Omit<Waiting, 'timer'>): void {
    const id = this.next++;
    const timer = setTimeout(() => this.fail(`it did not answer within ${this.limit / 1000} seconds`), this.limit);
    this.waiting.set(id, { resolve, reject, timer });
    port.postMessage({ id, request });
  }

  private started(): Port {
    const port = this.make();
    port.onmessage = ({ data }: MessageEvent<{ id: number; answer?: unknown; error?: string }>) => {
      const waiting = this.waiting.get(data.id);
      if (!waiting) return;
      this.waiting.delete(data.id);
      clearTimeout(waiting.timer);
      if (data.error !== undefined) waiting.reject(new Error(data.error));
      else waiting.resolve(data.answer as never);
    };
    port.onerror = (event) =>
      this.fail(typeof event === 'string' ? event : (event as ErrorEvent).message || 'it could not be loaded');
    port.onmessageerror = () => this.fail('its answer could not be read');
    return port;
  }

  private fail(why: string): void {
    this.port?.terminate();
    this.port = undefined;
    const open = [...this.waiting.values()];
    this.waiting.clear();
    for (const { reject, timer } of open) {
      clearTimeout(timer);
      reject(new Error(`The project’s reader has failed: ${why}`));
    }
  }
}
