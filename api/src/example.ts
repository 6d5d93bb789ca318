import type { Instant } from './instant.js';

/** `not run` where nothing was found of the example as it is now, `running` where that is about to be; `errors` where diagnostics say why it cannot run. */
export type ExampleVerdict = 'holds' | 'differs' | 'failed' | 'errors' | 'running' | 'not run';

/** One row of a result: as expected, as made, or both where they are about the same thing; values are texts. */
export interface ExampleRow {
  readonly kind: 'same' | 'differs' | 'missing' | 'extra';
  readonly expected: readonly (string | null)[] | null;
  readonly actual: readonly (string | null)[] | null;
  /** Places of the columns that differ. */
  readonly cells: readonly number[];
}

/** What an example came to. */
export interface ExampleOutcome {
  readonly verdict: Extract<ExampleVerdict, 'holds' | 'differs' | 'failed'>;
  /** Columns of `result.csv`; empty where the load failed. */
  readonly columns: readonly string[];
  readonly rows: readonly ExampleRow[];
  /** Why it failed, with the place in a file where there is one. */
  readonly error: {
    readonly message: string;
    readonly hint?: string;
    readonly path?: string;
    readonly line?: number;
    readonly load?: number;
  } | null;
  readonly milliseconds: number;
}

/** A worked example of a definition with what was last found of it, as it is now. */
export interface ExampleState {
  readonly table: string;
  readonly name: string;
  readonly verdict: ExampleVerdict;
  readonly at: Instant | null;
  readonly outcome: ExampleOutcome | null;
}

/** Files of an example that was begun from rows; they are not saved. */
export interface BegunExample {
  readonly files: readonly { readonly path: string; readonly text: string }[];
  /** What could not be found, and what was replaced by made-up values. */
  readonly notes: readonly string[];
}
