import { statfsSync } from 'node:fs';
import { isConnectionLost } from './connection-lost.js';

/** The folder whose disk holds all that the server keeps. */
let watched: string | undefined;
export const watchDisk = (folder: string): void => void (watched = folder);

const NO_SPACE = /no space left on device|out of disk ?space|disk quota exceeded|could not (extend|write to) file/i;
/** Where less is left, PostgreSQL cannot begin the next part of its log (16 MB): it ends, and says anything but that the disk is full. */
const LITTLE_BYTES = 32_000_000;
/** Errors of the system below: PostgreSQL's own and the system's. An author's mistake is none of them. */
const FROM_BELOW = /^(XX|58|53|E[A-Z]+$)/;

/** Whether something failed because a disk is full: the database's word for it, the system's, or git's; or, where the disk is full, whatever failed below the server. */
export function isFullDisk(error: unknown): boolean {
  for (let cause: unknown = error; cause instanceof Error; cause = cause.cause) {
    const { code, message } = cause as Error & { code?: string };
    if (code === '53100' || code === 'ENOSPC' || code === 'EDQUOT' || NO_SPACE.test(message)) return true;
    if (FROM_BELOW.test(code ?? '') && isDiskFull()) return true;
  }
  return isConnectionLost(error) && isDiskFull();
}

/** For how long what was full is told as such: what the database leaves as it ends makes room for a moment. */
const REMEMBERED_MILLISECONDS = 60_000;
let lastFull = Number.NEGATIVE_INFINITY;

/** Whether the disk of the data folder is full, or was a moment ago. */
export function isDiskFull(): boolean {
  const left = measured();
  if (left !== undefined && left.bavail * left.bsize < LITTLE_BYTES) lastFull = Date.now();
  return Date.now() - lastFull < REMEMBERED_MILLISECONDS;
}

function measured() {
  try {
    return watched === undefined ? undefined : statfsSync(watched);
  } catch {
    return undefined;
  }
}

/** Bytes that the disk of the data folder has left; undefined where it cannot be asked. */
export function freeOnDisk(): number | undefined {
  const found = measured();
  return found && found.bavail * found.bsize;
}

/** How much the disk of the data folder has left, as a sentence; nothing where it cannot be asked. */
export function leftOnDisk(): string {
  const found = measured();
  if (!found) return '';
  const megabytes = (n: number) => `${Math.round((n * found.bsize) / 1_000_000).toLocaleString('en')} MB`;
  return `${megabytes(found.bavail)} of ${megabytes(found.blocks)} are free where ${watched} is. `;
}
