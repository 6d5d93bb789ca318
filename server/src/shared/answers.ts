import type { Instant } from '@ouvrage/api/instant';
import type { ApiResponseNoStatusOptions } from '@nestjs/swagger';

/** Describes an answer that is a file: streamed, to be saved. @param types the media types that it can have */
export const fileAnswer = (types: readonly string[]): ApiResponseNoStatusOptions => ({
  description: 'The file',
  content: Object.fromEntries(types.map((type) => [type, { schema: { type: 'string' } }])),
});

/** Describes an answer that goes on: one event a change. */
export const EVENTS: ApiResponseNoStatusOptions = {
  description: 'A server-sent event for each change; it ends with the session',
  content: { 'text/event-stream': { schema: { type: 'string' } } },
};

/** Describes an answer that comes bit by bit: a line of JSON for each. */
export const LINES: ApiResponseNoStatusOptions = {
  description: 'A line of JSON for each thing that is found, as it is found',
  content: { 'application/x-ndjson': { schema: { type: 'string' } } },
};

/** An answer before it is JSON: its instants may still be dates. */
export type Sent<T> = T extends Instant ? Instant | Date : T extends object ? { [K in keyof T]: Sent<T[K]> } : T;

/** A text that is known to be an instant in ISO 8601: git and the database write it so. */
export const asInstant = (text: string): Instant => text as Instant;
