import type { Instant } from './instant.js';

export interface Person {
  readonly name: string;
  readonly displayName: string;
  readonly role: 'viewer' | 'editor' | 'releaser' | 'administrator';
}

export interface SessionAnswer {
  readonly person: Person | null;
  readonly csrf: string | null;
  /** Whether the password is one that an administrator gave: all else is closed until another one is chosen. */
  readonly mustChange: boolean;
  /** Whether nobody has been here yet, so that the first administrator is to be made. */
  readonly needsSetup: boolean;
}

/** A person, as administrators see them. */
export interface Account extends Person {
  /** Those to whom a link or a password was issued have not chosen their own yet. */
  readonly state: 'active' | 'link issued' | 'password issued' | 'disabled';
  readonly lastSignInAt: Instant | null;
  readonly linkEndsAt: Instant | null;
}

/** What somebody chooses a password by, shown this once. */
export interface Issued {
  readonly kind: 'link' | 'password';
  readonly secret: string;
  /** When a link is good no longer. */
  readonly endsAt: Instant | null;
}

/** Whose a link is. */
export type LinkOwner = Pick<Person, 'name' | 'displayName'>;

/** One of a person's own sessions. */
export interface OwnSession {
  readonly number: string;
  readonly begunAt: Instant;
  /** To the minute. */
  readonly usedAt: Instant;
  readonly address: string;
  /** What the browser says that it is. */
  readonly agent: string;
  /** Whether it is the one that asks. */
  readonly isThis: boolean;
}

/** After how long sessions end by themselves. */
export interface SessionLimits {
  readonly idleHours: number;
  readonly days: number;
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
