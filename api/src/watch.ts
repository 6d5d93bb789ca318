import type { Instant } from './instant.js';

export type WatchVerdict = 'silent' | 'inside' | 'outside' | 'agreed' | 'ignored';

/** A measure of a table after one load. */
export interface WatchPoint {
  readonly run: number;
  readonly at: Instant;
  readonly value: number;
  readonly verdict: WatchVerdict;
  /** What was expected, where it was outside. */
  readonly least: number | null;
  readonly greatest: number | null;
}

/** A measure of a table over time, oldest first, and what is expected next. */
export interface WatchSeries {
  readonly measure: string;
  readonly isSampled: boolean;
  readonly points: readonly WatchPoint[];
  readonly expected: {
    readonly least: number;
    readonly greatest: number;
    readonly by: string;
    readonly from: number;
  } | null;
  /** Until when nothing is told of it, and who said so. */
  readonly ignored: { readonly until: Instant; readonly person: string } | null;
}

/** The least likely measure of a table’s newest load, where it is outside of what was expected. */
export interface WatchFinding {
  readonly table: string;
  readonly measure: string;
  readonly value: number;
  readonly least: number;
  readonly greatest: number;
  readonly by: string;
  readonly from: number;
  readonly run: number;
  readonly at: Instant;
  /** Other measures of that load that are outside. */
  readonly others: readonly string[];
}
