import { Catch, HttpException, type ArgumentsHost, type ExceptionFilter } from '@nestjs/common';
import type { Response } from 'express';
import { pino } from 'pino';
import { isConnectionLost } from './connection-lost.js';
import { isFullDisk, leftOnDisk } from './disk.js';

/** An error in the shape of RFC 9457, with what the interface needs to show the place and the remedy. */
export class Problem extends HttpException {
  /**
   * @param code a stable word for programs, `draft-conflict`
   * @param title what happened, for people
   * @param extra further members: place, both texts of a conflict, rows
   */
  constructor(
    status: number,
    readonly code: string,
    readonly title: string,
    readonly detail?: string,
    readonly extra: Readonly<Record<string, unknown>> = {},
  ) {
    super(title, status);
  }
}

export const notFound = (what: string) => new Problem(404, 'not-found', `${what} does not exist`);

export const logger = pino({
  level: process.env['OUVRAGE_LOG'] ?? 'warn',
  redact: ['req.headers.cookie', 'req.headers.authorization'],
});

/** Every error leaves the server as `application/problem+json`; what is not ours shows no inside. */
@Catch()
export class ProblemFilter implements ExceptionFilter {
  catch(error: unknown, host: ArgumentsHost): void {
    const response = host.switchToHttp().getResponse<Response>();
    const problem = asProblem(error);
    if (response.headersSent) {
      response.end();
      return;
    }
    sendProblem(response, problem);
  }
}

/** A problem as it leaves the server. */
export function sendProblem(response: Response, problem: Problem): void {
  const { code, title, detail, extra } = problem;
  if (typeof extra['retryAfter'] === 'number') response.setHeader('Retry-After', String(extra['retryAfter']));
  response
    .status(problem.getStatus())
    .type('application/problem+json')
    .send(
      JSON.stringify({
        type: `about:blank#${code}`,
        code,
        status: problem.getStatus(),
        title,
        ...(detail ? { detail } : {}),
        ...extra,
      }),
    );
}

/** What is told of whatever fails because the disk is full. */
export const fullDisk = () =>
  new Problem(507, 'disk-full', 'The disk is full', `${leftOnDisk()}Nothing is half-done: make room, then try again.`);

export function asProblem(error: unknown): Problem {
  if (error instanceof Problem) return error;
  if (error instanceof HttpException) {
    const body = error.getResponse() as { message?: string | string[] };
    const messages = Array.isArray(body.message) ? body.message : undefined;
    if (messages)
      return new Problem(error.getStatus(), 'bad-input', 'Invalid request', messages.join('; '), { fields: messages });
    return new Problem(error.getStatus(), error.getStatus() === 404 ? 'not-found' : 'refused', error.message);
  }
  // What reads requests says of itself whether the request is at fault: no JSON, too long, an address that cannot be decoded.
  const { status, message } = (error ?? {}) as { status?: unknown; message?: unknown };
  if (typeof status === 'number' && status >= 400 && status < 500)
    return new Problem(status, 'bad-input', 'Invalid request', String(message));
  if (isFullDisk(error)) return fullDisk();
  if (isConnectionLost(error))
    return new Problem(
      503,
      'database-away',
      'The database does not answer',
      'It is restarting or was stopped. Try again in a moment; nothing is half-done.',
      { retryAfter: 5 },
    );
  logger.error(error);
  return new Problem(
    500,
    'internal',
    'The server had an error',
    'It is in the server log. Nothing that you typed is lost.',
  );
}
