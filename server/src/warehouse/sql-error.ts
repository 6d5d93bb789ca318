import { isConnectionLost } from '../shared/connection-lost.js';
import { isFullDisk, leftOnDisk } from '../shared/disk.js';
import type { Project } from '@ouvrage/core/model';
import { lineColumn } from '@ouvrage/core/sql';
import type { StepError } from '@ouvrage/api/run';

/** The fields of an error that PostgreSQL sends. */
export interface DatabaseError {
  readonly message: string;
  readonly code?: string;
  readonly detail?: string;
  readonly hint?: string;
  readonly position?: string;
  readonly where?: string;
  readonly table?: string;
  readonly constraint?: string;
}

export function isDatabaseError(error: unknown): error is DatabaseError {
  return error instanceof Error && typeof (error as { code?: unknown }).code === 'string' && 'severity' in error;
}

/** Whether a statement is at fault, and not the disk or the connection below it. */
export function isOfStatement(error: unknown): error is DatabaseError {
  return isDatabaseError(error) && !isFullDisk(error) && !isConnectionLost(error);
}

/** What a practitioner does about an error, by its SQLSTATE, where PostgreSQL gives no hint itself. */
const REMEDIES: Readonly<Record<string, string>> = {
  '22P02':
    'A text does not have the form of the type that it is cast to. Preview the step and filter for such values, or use nullif or a case before the cast.',
  '22007': 'A text is not a date or time in the expected format.',
  '22008': 'A date or time is outside what the type can hold.',
  '22003': 'A number is too large for its type. Widen the type.',
  '22012': 'Divide by nullif(x, 0) to get null instead.',
  '21000': 'A subquery here may return only one row.',
  '42883': 'No function or operator takes these types: cast one of the sides.',
  '42804': 'Two types do not match: cast one of them.',
  '57014': 'It was stopped, or exceeded the time limit.',
  '55P03': 'Another statement holds the table. Run it again when that has ended.',
  '42501': 'The warehouse role is not allowed to do this: ask the object’s owner for the right.',
};

/** `connection_failure` of the standard: whatever the library says of a connection that was lost. */
const CONNECTION_LOST = '08006';

/**
 * An error in plain words, with the place in the author's file: where the database tells none, that of the statement.
 * @param author leads from an offset of the statement back to the file
 */
export function stepError(
  error: unknown,
  project: Project,
  author?: { readonly path: string; readonly original: (offset: number) => number },
): StepError {
  if (isFullDisk(error))
    return {
      message: 'The disk is full; the table is unchanged',
      hint: `${leftOnDisk()}Make room, then run it again.`,
    };
  if (isConnectionLost(error))
    return {
      message: 'The connection to the warehouse was lost',
      hint: 'Run it again: uncommitted changes were rolled back.',
      sqlstate: CONNECTION_LOST,
    };
  if (!isDatabaseError(error)) return { message: error instanceof Error ? error.message : String(error) };
  const position = Number(error.position ?? 0);
  const file = author && project.files.get(author.path);
  const place = file ? { path: author.path, ...lineColumn(file.text, author.original(Math.max(0, position - 1))) } : {};
  const hint = error.hint ?? REMEDIES[error.code ?? ''];
  return {
    message: error.message,
    ...(error.detail ? { detail: error.detail } : error.where?.startsWith('COPY') ? { detail: error.where } : {}),
    ...(hint ? { hint } : {}),
    ...(error.code ? { sqlstate: error.code } : {}),
    ...place,
  };
}

/** A message without the value that it is about: the database ends with it, deliveries quote it. */
export const withoutValue = (message: string): string => message.replace(/: ".*"$/s, '').replace(/“[^”]*”/g, '“…”');
