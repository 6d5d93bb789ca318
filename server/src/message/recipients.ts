import type { Channel, Reading, Subscription } from '@ouvrage/api/message';
import { readersOf, reachable } from '@ouvrage/core/graph';
import { optionOf, SEVERITIES, type Severity } from '@ouvrage/core/language';
import type { Project } from '@ouvrage/core/model';
import type { DeskRow } from './message.entities.js';

export interface KnownPerson {
  readonly name: string;
  readonly displayName: string;
  readonly mail: string | null;
  readonly reading: Reading;
}

/** One receiver of a message by one channel. */
export interface Recipient {
  readonly channel: Channel;
  /** `person:mira` or `desk:<id>`. */
  readonly receiver: string;
  readonly reading?: Reading;
}

/** How who has said nothing is told. */
export const USUAL: Omit<Reading, 'mail'> = {
  channels: ['application', 'mail'],
  least: 'low',
  digest: 'at once',
  quietFrom: null,
  quietTo: null,
  zone: 'UTC',
  subscriptions: [],
};

const reaches = (severity: Severity, least: Severity): boolean =>
  SEVERITIES.indexOf(severity) >= SEVERITIES.indexOf(least);
/** Names of owners, desks and people agree whatever their case. */
export const sameName = (a: string, b: string): boolean => a.trim().toLowerCase() === b.trim().toLowerCase();

const ownerOf = (project: Project, table: string): string | undefined =>
  optionOf(project.tables.get(table) ?? {}, 'owner');
const tagsOf = (project: Project, table: string): readonly string[] =>
  (optionOf(project.tables.get(table) ?? {}, 'tags') ?? '').split(',').map((t) => t.trim());

/** Owners of some tables and of all that reads them, those of the tables first. */
export function ownersAround(project: Project, tables: readonly string[]): string[] {
  const downstream = reachable(readersOf(project.reads), tables).keys();
  const owners = [...tables, ...downstream].flatMap((t) => ownerOf(project, t) ?? []);
  return [...new Set(owners)];
}

function concerns(project: Project, tables: readonly string[], { kind, value }: Subscription): boolean {
  switch (kind) {
    case 'all':
      return true;
    case 'table':
      return tables.includes(value);
    case 'owner':
      return tables.some((t) => sameName(ownerOf(project, t) ?? '', value));
    case 'tag':
      return tables.some((t) => tagsOf(project, t).some((tag) => sameName(tag, value)));
  }
}

/**
 * Who is told of something about some tables: their owners and those of what reads them, and who has subscribed to it.
 * A desk is its members, its mail address and its webhook.
 */
export function recipientsOf(
  project: Project,
  { tables, severity }: { readonly tables: readonly string[]; readonly severity: Severity },
  { desks, people }: { readonly desks: readonly DeskRow[]; readonly people: readonly KnownPerson[] },
): Recipient[] {
  const owners = ownersAround(project, tables);
  const told = desks.filter((d) => owners.some((o) => sameName(o, d.name)));
  const members = new Set(told.flatMap((d) => d.members));
  const persons = people.filter(
    ({ name, displayName, reading }) =>
      (reaches(severity, reading.least) &&
        (members.has(name) || owners.some((o) => sameName(o, name) || sameName(o, displayName)))) ||
      reading.subscriptions.some((s) => reaches(severity, s.least) && concerns(project, tables, s)),
  );
  const found: Recipient[] = [];
  for (const { name, mail, reading } of persons) {
    const receiver = `person:${name}`;
    if (reading.channels.includes('application')) found.push({ channel: 'application', receiver });
    if (mail !== null && reading.channels.includes('mail')) found.push({ channel: 'mail', receiver, reading });
  }
  for (const { id, mail, webhook } of told) {
    if (mail !== null) found.push({ channel: 'mail', receiver: `desk:${id}` });
    if (webhook !== null) found.push({ channel: 'webhook', receiver: `desk:${id}` });
  }
  return found;
}
