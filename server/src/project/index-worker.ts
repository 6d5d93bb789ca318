import { withoutFunctions, indexFile } from '@ouvrage/core/index';
import { loadParser } from '@ouvrage/core/sql';
import { parentPort } from 'node:worker_threads';

/** Reads large files away from the thread that answers people: `{ path, text }` in, the indexed file out. */
await loadParser();
parentPort!.on('message', ({ path, text }: { path: string; text: string }) =>
  parentPort!.postMessage(withoutFunctions(indexFile(path, text))),
);
parentPort!.postMessage('ready');
