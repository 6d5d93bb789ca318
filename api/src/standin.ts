/** The day of the demo's source system; null where there is none. */
export interface HarbourDay {
  readonly day: number | null;
  readonly date: string | null;
}
