import type { IncidentEntry, IncidentEvent } from '@ouvrage/api/incident';
import { formatDistanceStrict } from 'date-fns';
import { count, rows } from '../../shared/format';
import { present } from '../../data/time';

/** `3 hours`, between two instants. */
export const lasting = (from: string, to: string | null): string =>
  formatDistanceStrict(new Date(from), to === null ? present() : new Date(to));

/** `3 hours`, of milliseconds. */
export const spell = (milliseconds: number | null): string =>
  milliseconds === null ? '–' : formatDistanceStrict(0, milliseconds);

/** `in hand, high`, or `closed in 3 hours, medium`. */
export const stateWords = ({ state, severity, openedAt, closedAt }: IncidentEntry): string =>
  state === 'closed' ? `closed in ${lasting(openedAt, closedAt)}, ${severity}` : `${state}, ${severity}`;

/** What an event says, in words; who did it, and the run, come before. @param titleOf the title of a check, or a table */
export function eventWords(
  { kind, text, verdict, atFault, total, subject }: IncidentEvent,
  titleOf: (subject: string) => string,
): string {
  const what = subject === null ? '' : titleOf(subject);
  switch (kind) {
    case 'opened':
      return `opened for ${what || 'a failure'}`;
    case 'verdict':
      return verdict === 'holds'
        ? `${what} holds${total === null ? '' : `, ${rows(total)}`}`
        : `${what} ${verdict ?? ''}, ${rows(atFault)} at fault${total === null ? '' : ` of ${count(total)}`}`;
    case 'load':
      return verdict === 'holds' ? `${what} was loaded` : `${what} was not loaded${text === null ? '' : `: ${text}`}`;
    case 'release':
      return text ?? 'a release';
    case 'taken':
      return 'took it in hand';
    case 'changed':
      return `changed ${text ?? ''}`;
    case 'remark':
      return text ?? '';
    case 'closed':
      return `closed it: ${text ?? ''}`;
    case 'reopened':
      return `opened again${text ? `: ${text}` : ''}`;
    case 'merged':
      return `merged ${text ?? ''}`;
    case 'split':
      return `split off ${what} as ${text ?? ''}`;
    case 'gone':
      return `closed: ${text ?? ''}`;
  }
}
