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
