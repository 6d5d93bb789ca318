import type { RowKind } from '@ouvrage/core/review';
import type { Instant } from './instant.js';

export type ReviewWord = 'approved' | 'declined';

/** Where a remark stands. */
export type RemarkPlace =
  | { readonly kind: 'whole' }
  /** @property line from 1, of the file as the workspace has it; @property text of that line when the remark was made */
  | { readonly kind: 'line'; readonly path: string; readonly line: number; readonly text: string }
  | { readonly kind: 'column'; readonly table: string; readonly column: string }
  | { readonly kind: 'rows'; readonly table: string; readonly rows: RowKind };

export interface RemarkAnswer {
  readonly id: number;
  readonly person: string;
  readonly text: string;
  readonly at: Instant;
}

export interface Remark extends RemarkAnswer {
  readonly place: RemarkPlace;
  /** The line of a remark's file where its text is now, from 1; null where it is gone, and for other places. */
  readonly line: number | null;
  readonly answers: readonly RemarkAnswer[];
  readonly resolved: { readonly person: string; readonly at: Instant } | null;
}

/** What somebody said of a change. */
export interface ReviewVerdict {
  readonly person: string;
  readonly word: ReviewWord;
  readonly text: string;
  readonly at: Instant;
  /** Why it counts no more; null where it does. */
  readonly stale: string | null;
}

/** Something that a release needs by the rules of the project. */
export type ReviewNeed =
  | { readonly kind: 'approvals'; readonly wanted: number; readonly found: number }
  | {
      readonly kind: 'owner';
      readonly owner: string;
      readonly tables: readonly string[];
      /** Who may approve for the owner, by name; administrators where nobody is known who may. */
      readonly people: readonly string[];
      readonly isMet: boolean;
    };

/** The review of a workspace. */
export interface Review {
  /** What is approved: the files of the diff, as one digest; null where nothing can be released. */
  readonly diff: string | null;
  /** Who wrote any part of it. */
  readonly authors: readonly string[];
  readonly needs: readonly ReviewNeed[];
  readonly verdicts: readonly ReviewVerdict[];
  /** What stands between it and its release, in words: approvals that are needed, people who decline it. */
  readonly missing: readonly string[];
  /** Why the person who reads it cannot approve or decline; null who can. */
  readonly mayNot: string | null;
  readonly asked: { readonly person: string; readonly at: Instant } | null;
  readonly remarks: readonly Remark[];
}

/** What of its review a release keeps. */
export interface ReleasedReview {
  readonly authors: readonly string[];
  readonly verdicts: readonly Omit<ReviewVerdict, 'stale'>[];
  /** What may be dropped for good, as whoever released it said. */
  readonly consents: readonly string[];
  /** Why an administrator released it without what it needed. */
  readonly override: { readonly person: string; readonly text: string; readonly missing: readonly string[] } | null;
}
