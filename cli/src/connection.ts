import type { ProblemBody } from '@ouvrage/api/problem';
import { Ended, EXIT, type Exit, type Surroundings } from './ended.js';

/** Answers of the server that come of what it was asked, by status. */
const exitOf = (status: number): Exit =>
  status >= 500 ? EXIT.notReached : status === 400 || status === 404 ? EXIT.wrongUse : EXIT.refused;

/** A server and the token with which it is asked. */
export class Connection {
  private constructor(
    private readonly server: string,
    private readonly token: string,
  ) {}

  /** @throws Ended where the environment or the options do not say which server, or by which token */
  static from(env: Surroundings['env'], server: string | undefined): Connection {
    const found = server ?? env['OUVRAGE_SERVER'];
    const token = env['OUVRAGE_TOKEN'];
    if (!found) throw new Ended(EXIT.wrongUse, 'Which server?', 'Say --server URL, or set OUVRAGE_SERVER.');
    if (!/^https?:\/\/[^\s]+$/.test(found))
      throw new Ended(EXIT.wrongUse, `${found} is not the address of a server`, 'It begins with http:// or https://.');
    if (!token)
      throw new Ended(
        EXIT.wrongUse,
        'There is no token',
        'Make one in Ouvrage under Settings, and set OUVRAGE_TOKEN to it. It is never an argument: others see those.',
      );
    return new Connection(found.replace(/\/+$/, ''), token);
  }

  get<T>(path: string): Promise<T> {
    return this.ask<T>('GET', path);
  }

  post<T>(path: string, body: unknown): Promise<T> {
    return this.ask<T>('POST', path, body);
  }

  /** The text of an answer that is none of JSON. */
  async text(path: string): Promise<string> {
    return (await this.send('GET', path)).text();
  }

  private async ask<T>(method: string, path: string, body?: unknown): Promise<T> {
    return (await (await this.send(method, path, body)).json()) as T;
  }

  private async send(method: string, path: string, body?: unknown): Promise<Response> {
    const sent = fetch(`${this.server}/api/${path}`, {
      method,
      // A token goes to the server that was named, and nowhere else.
      redirect: 'error',
      headers: {
        authorization: `Bearer ${this.token}`,
        ...(body === undefined ? {} : { 'content-type': 'application/json' }),
      },
      ...(body === undefined ? {} : { body: JSON.stringify(body) }),
    });
    const answer = await sent.catch((error: unknown) => {
      const cause = error instanceof Error && error.cause instanceof Error ? error.cause.message : String(error);
      throw new Ended(EXIT.notReached, `${this.server} was not reached: ${cause}`);
    });
    if (answer.ok) return answer;
    const problem = (await answer.json().catch(() => ({}))) as Partial<ProblemBody>;
    throw new Ended(
      exitOf(answer.status),
      problem.title ?? `${this.server} answered ${answer.status} to ${method} ${path}`,
      problem.detail,
    );
  }
}
