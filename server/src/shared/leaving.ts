import type { Request } from 'express';

/** Aborted when the person's connection closes before the answer is sent. */
export function leaving(request: Request): AbortSignal {
  const controller = new AbortController();
  // Who has left before the request was read leaves no more.
  if (request.socket.destroyed) controller.abort();
  request.res?.once('close', () => controller.abort());
  return controller.signal;
}
