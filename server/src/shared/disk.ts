import { statfsSync } from 'node:fs';

/** The folder whose disk holds all that the server keeps. */
let watched: string | undefined;
export const watchDisk = (folder: string): void => void (watched = folder);

const NO_SPACE = /no space left on device|disk quota exceeded|could not (extend|write to) file/i;

/** Whether something failed because a disk is full: the database's word for it, the system's, or git's. */
export function isFullDisk(error: unknown): boolean {
  for (let cause: unknown = error; cause instanceof Error; cause = cause.cause) {
    const { code, message } = cause as Error & { code?: string };
    if (code === '53100' || code === 'ENOSPC' || code === 'EDQUOT' || NO_SPACE.test(message)) return true;
  }
  return false;
}

/** How much the disk of the data folder has left, as a sentence; nothing where it cannot be asked. */
export function leftOnDisk(): string {
  if (watched === undefined) return '';
  try {
    const { bavail, bsize, blocks } = statfsSync(watched);
    const megabytes = (n: number) => `${Math.round((n * bsize) / 1_000_000).toLocaleString('en')} MB`;
    return `${megabytes(bavail)} of ${megabytes(blocks)} are left where ${watched} is. `;
  } catch {
    return '';
  }
}
