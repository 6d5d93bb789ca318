import type { Instant } from './instant.js';

/** What is agreed: a check by its id, or a table's contract by the table. */
export interface Agreed {
  readonly kind: 'check' | 'contract';
  readonly subject: string;
}

/** That somebody has agreed to a text. It holds for that text, and falls when it changes. */
export interface Agreement extends Agreed {
  readonly person: string;
  /** The desk that the person agreed for; null for the person alone. */
  readonly desk: string | null;
  readonly at: Instant;
  /** Whether the text is still what was agreed. */
  readonly holds: boolean;
}
