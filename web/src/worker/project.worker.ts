import { loadParser } from '@ouvrage/core/sql';
import { answer } from './answer';
import type { Request } from './protocol';

self.onmessage = async ({ data }: MessageEvent<{ id: number; request: Request }>) => {
  try {
    await loadParser();
    self.postMessage({ id: data.id, answer: await answer(data.request) });
  } catch (error) {
    self.postMessage({ id: data.id, error: error instanceof Error ? error.message : String(error) });
  }
};
