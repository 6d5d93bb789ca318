import type { Request } from 'express';

/** Aborted when the person's connection closes before the answer is sent. */
export function leaving(request: Request): AbortSignal {
  const controller = new AbortController();
  request.res?.once('close', () => controller.abort());
  return controller.signal;
}
