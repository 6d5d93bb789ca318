import type { Hashing } from '@ouvrage/core/compile';
import type { Place } from '@ouvrage/core/model';

/** What the last successful load of a table was. */
export interface Loaded {
  readonly fingerprint: string;
  readonly rows: string | null;
  readonly runId: number;
  readonly at: string;
  /** The time of the load, ISO 8601 with microseconds; of tables that keep rows. */
  readonly loadTime?: string;
  /** The clock that it is from. */
  readonly clock?: Clock;
  /** How its values became hashes; as text, where that is not said. */
  readonly hashing?: Hashing;
}

/** What is remembered of a load. */
export interface Remembering {
  readonly fingerprint: string;
  readonly rows: string | null;
  readonly runId: number;
  /** An expression for the load's time, where it has one. */
  readonly time?: string;
  readonly clock?: Clock;
  readonly hashing?: Hashing | undefined;
}

/** Where a table can be read: built here, taken from production, or nowhere yet. */
export interface Standing {
  readonly where: 'here' | 'production' | 'nowhere';
  readonly place?: Place;
  readonly loaded?: Loaded;
}

/** The clock that a load's time is from. */
export type Clock = 'stand-in' | 'real';
