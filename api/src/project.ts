import type { Instant } from './instant.js';

export interface WorkspaceEntry {
  readonly slug: string;
  readonly name: string;
  readonly owner: string;
  /** Whether who asks edits it and runs its tables. */
  readonly isShared: boolean;
  /** Names of those who edit it beside its owner; `all` where everybody does who edits. */
  readonly sharedWith: readonly string[] | 'all';
  readonly createdAt: Instant;
  readonly prefix: string;
  readonly drafts: number;
  /** When its newest commit was made, or it was opened, whichever is later. */
  readonly changedAt: Instant;
}

/** Who edits a workspace beside its owner. */
export interface Sharing {
  /** Whether everybody does who edits at all. */
  readonly all: boolean;
  /** Those who could, by sign-in name. */
  readonly people: readonly { readonly name: string; readonly displayName: string; readonly isIn: boolean }[];
}

export interface DraftEntry {
  readonly path: string;
  readonly text: string | null;
  readonly version: number;
  readonly by: string;
  readonly at: Instant;
  readonly isNew: boolean;
}

export interface FilesAnswer {
  readonly project: string;
  readonly slug: string;
  readonly name: string;
  /** Who alone edits it with those whom they choose, where that is not who asks. */
  readonly keptBy: string | null;
  readonly commit: string;
  /** Texts by path; null for a file that is gone since the commit that was asked from. */
  readonly files: Readonly<Record<string, string | null>>;
  /** The commit that these are the changes from; null where they are all files. */
  readonly since: string | null;
  readonly drafts: readonly DraftEntry[];
}

export interface Commit {
  readonly id: string;
  readonly author: string;
  readonly at: Instant;
  readonly message: string;
}

export interface ProposedFile {
  readonly path: string;
  readonly before: string | null;
  readonly after: string;
}

export interface FileConflict {
  readonly path: string;
  readonly mine: string | null;
  readonly theirs: string | null;
}

/** A file in a commit and in the one before it. */
export interface FileTexts {
  readonly path: string;
  readonly commit: string;
  readonly text: string | null;
  readonly before: string | null;
}
