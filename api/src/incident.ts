import type { Verdict } from '@ouvrage/core/check';
import type { Severity } from '@ouvrage/core/language';
import type { Instant } from './instant.js';

export type IncidentState = 'open' | 'in hand' | 'closed';

/** What an incident is about: a check, a table whose load fails, a source table that is late, or a measure outside of what was expected. */
export interface IncidentSubject {
  readonly kind: 'check' | 'load' | 'source' | 'measure';
  /** The check's id, the table, or `core.fact_dues/rows`. */
  readonly subject: string;
  readonly table: string;
}

export interface PersonName {
  readonly name: string;
  readonly displayName: string;
}

export interface IncidentEntry {
  readonly id: number;
  readonly title: string;
  readonly state: IncidentState;
  readonly severity: Severity;
  /** Who follows it to its end. */
  readonly lead: PersonName | null;
  /** Who opened it; null where a rule did. */
  readonly openedBy: string | null;
  /** The first failure that is kept. */
  readonly since: Instant;
  readonly openedAt: Instant;
  readonly closedAt: Instant | null;
  /** How often it was opened again. */
  readonly reopened: number;
  readonly subjects: readonly IncidentSubject[];
}

/** What happened: recorded by itself, or said by a person. */
export interface IncidentEvent {
  readonly id: number;
  readonly at: Instant;
  readonly kind:
    | 'opened'
    | 'verdict'
    | 'load'
    | 'release'
    | 'taken'
    | 'changed'
    | 'remark'
    | 'closed'
    | 'reopened'
    | 'merged'
    | 'split'
    | 'gone';
  readonly person: string | null;
  readonly text: string | null;
  readonly run: number | null;
  readonly verdict: Verdict | null;
  readonly atFault: string | null;
  readonly total: string | null;
  /** The check or table that it is about. */
  readonly subject: string | null;
}

/** A table beside an incident's, with how it is itself. */
export interface AffectedTable {
  readonly table: string;
  readonly owner: string | null;
  /** Its checks that are broken now. */
  readonly failing: number;
  /** An open incident of its own. */
  readonly incident: number | null;
}

export interface IncidentDetail extends IncidentEntry {
  readonly description: string;
  /** What was learned, once it is closed; and why it was closed though something does not hold. */
  readonly learned: string | null;
  readonly closedThough: string | null;
  /** Oldest first. */
  readonly events: readonly IncidentEvent[];
  /** How its subjects are now. */
  readonly now: readonly { readonly subject: string; readonly title: string; readonly verdict: Verdict }[];
  /** Tables that read, directly or not, what it is about. */
  readonly affected: readonly AffectedTable[];
  /** Tables upstream that fail themselves, the furthest first: the likely causes. */
  readonly causes: readonly AffectedTable[];
  /** Other open incidents that one cause would explain. */
  readonly related: readonly { readonly id: number; readonly title: string; readonly why: string }[];
  /** Earlier incidents of the same subjects. */
  readonly before: readonly IncidentEntry[];
}

/** Incidents, newest first, and people who can lead one. */
export interface IncidentList {
  readonly incidents: readonly IncidentEntry[];
  readonly people: readonly PersonName[];
}
