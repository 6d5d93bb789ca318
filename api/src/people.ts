import type { Instant } from './instant.js';

export interface Person {
  readonly name: string;
  readonly displayName: string;
  readonly role: 'viewer' | 'editor' | 'releaser' | 'administrator';
}

export interface SessionAnswer {
  readonly person: Person | null;
  readonly csrf: string | null;
}

export interface AuditEntry {
  readonly id: string;
  readonly at: Instant;
  readonly person: string;
  readonly action: string;
  readonly subject: string;
  readonly detail: Readonly<Record<string, unknown>> | null;
}

/** What a token may: read; save drafts and push; load and check; release; agree to what a release drops. */
export type TokenRight = 'read' | 'write' | 'run' | 'release' | 'consent';

export interface AccessToken {
  readonly id: string;
  readonly label: string;
  readonly rights: readonly TokenRight[];
  readonly createdAt: Instant;
  readonly expiresAt: Instant;
  readonly lastUsedAt: Instant | null;
}

/** A token, shown this once. */
export interface NewToken {
  readonly token: string;
  readonly id: string;
}
