/** A point in time as JSON carries it: ISO 8601 with its offset, `2026-03-01T14:05:00.000Z`. */
export type Instant = `${string}T${string}`;
