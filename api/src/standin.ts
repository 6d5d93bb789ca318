/** The demo's source system and its clock; null where there is none. */
export interface HarbourDay {
  readonly day: number | null;
  readonly date: string | null;
  /** What time it is in the demo, ISO 8601; null where it has no clock of its own. */
  readonly time: string | null;
  /** How far its past has been played; null where there is none, or it is over. */
  readonly past: PastProgress | null;
}

export interface PastProgress {
  /** Days that were played. */
  readonly played: number;
  readonly of: number;
  /** Why it does not go on, if it does not. */
  readonly error: string | null;
}
