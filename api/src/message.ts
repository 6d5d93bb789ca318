import type { Severity } from '@ouvrage/core/language';
import type { Instant } from './instant.js';

/** What a message tells: an incident, something that fails in production, a source that is late, an unusual measure, or a review that is asked for. */
export type MessageKind = 'incident' | 'failure' | 'late' | 'unusual' | 'review';
export type Channel = 'application' | 'mail' | 'webhook';
/** When mail is sent: each message at once, or those of an hour or a day together. */
export type Digest = 'at once' | 'hour' | 'day';

/** A message to the person who reads it. */
export interface Notice {
  readonly id: string;
  readonly kind: MessageKind;
  readonly severity: Severity;
  readonly title: string;
  /** Since when, how much, who is affected: a sentence each. */
  readonly lines: readonly string[];
  /** Where it leads, below the public address. */
  readonly path: string;
  readonly at: Instant;
  readonly readAt: Instant | null;
}

export interface NoticeList {
  readonly unread: number;
  /** The newest first. */
  readonly notices: readonly Notice[];
}

/** What a person wants to be told beside what the tables of theirs bring. */
export interface Subscription {
  readonly kind: 'owner' | 'tag' | 'table' | 'all';
  /** The owner, the tag or the table; empty for all. */
  readonly value: string;
  readonly least: Severity;
}

/** How a person is told. */
export interface Reading {
  readonly channels: readonly ('application' | 'mail')[];
  readonly least: Severity;
  readonly digest: Digest;
  /** `22:00`; between the two nothing but what is critical is mailed. */
  readonly quietFrom: string | null;
  readonly quietTo: string | null;
  readonly zone: string;
  readonly subscriptions: readonly Subscription[];
  /** Where mail goes; administrators say so. */
  readonly mail: string | null;
}

/** A team that owns tables: what concerns them is sent to its members, its mail address and its webhook. */
export interface Desk {
  readonly id: string;
  readonly name: string;
  /** Names that people sign in with. */
  readonly members: readonly string[];
  /** Addresses are shown to administrators alone. */
  readonly mail: string | null;
  readonly webhook: string | null;
  readonly hasSecret: boolean;
}

export interface Receivers {
  readonly desks: readonly Desk[];
  readonly people: readonly { readonly name: string; readonly displayName: string; readonly mail: string | null }[];
  /** Owners that contracts name and that are neither a desk nor a person, with the nearest that is. */
  readonly unknown: readonly {
    readonly owner: string;
    readonly tables: readonly string[];
    readonly nearest: string | null;
  }[];
}

/** How messages leave. */
export interface SendingSettings {
  /** The address that people reach this server at, `https://warehouse.example`; links begin with it. */
  readonly publicAddress: string;
  readonly mail: {
    readonly host: string;
    readonly port: number;
    readonly tls: 'off' | 'starttls' | 'tls';
    readonly user: string;
    readonly hasPassword: boolean;
    readonly from: string;
  } | null;
  /** Ranges of private networks that webhooks may lead to, `10.1.0.0/16`. */
  readonly ranges: readonly string[];
}

/** A message on its way to one receiver. */
export interface SendingEntry {
  readonly id: string;
  readonly channel: Channel;
  readonly to: string;
  readonly title: string;
  readonly state: 'waiting' | 'sent' | 'given up';
  readonly attempts: number;
  readonly error: string | null;
  readonly at: Instant;
  readonly sentAt: Instant | null;
}

/** What the stand-in for receivers has got. */
export interface OutboxEntry {
  readonly id: string;
  readonly channel: 'mail' | 'webhook';
  readonly to: string;
  readonly subject: string;
  readonly body: string;
  /** How often it came again with the same id. */
  readonly repeats: number;
  readonly at: Instant;
}
