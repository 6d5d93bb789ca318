import type { Instant } from './instant.js';

export interface DeliverySearch {
  readonly search?: string;
  readonly state?: DeliveryEntry['state'];
  /** The last delivery of the page before. */
  readonly before?: number;
}

export interface DeliveryEntry {
  readonly id: number;
  readonly file: string;
  readonly table: string | null;
  readonly state: 'loaded' | 'empty' | 'repeated' | 'failed' | 'unknown';
  readonly bytes: string;
  readonly rows: string | null;
  readonly rejects: string | null;
  readonly reason: string | null;
  readonly at: Instant;
  readonly milliseconds: number | null;
}

/** A page of the files that came, newest first. */
export interface DeliveryList {
  readonly folder: string;
  readonly files: readonly DeliveryEntry[];
  /** Whether there are earlier ones. */
  readonly more: boolean;
}

/** Rows of a file that were set aside: line, column, value and reason. */
export interface Rejects {
  readonly rows: readonly (readonly (string | null)[])[];
  /** Whether there are more than are shown. */
  readonly isFull: boolean;
}
