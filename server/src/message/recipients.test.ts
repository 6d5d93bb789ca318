import { beforeAll, describe, expect, test } from '@jest/globals';
import { readProject } from '@ouvrage/core/resolve';
import { loadParser } from '@ouvrage/core/sql';
import type { Project } from '@ouvrage/core/model';
import type { DeskRow } from './message.entities.js';
import { type KnownPerson, ownersAround, recipientsOf, USUAL } from './recipients.js';

let project: Project;
beforeAll(async () => {
  await loadParser();
  project = readProject(
    new Map([
      ['layers.sql', 'create schema landing; create schema staging; create schema core; create schema mart;'],
      [
        'sources/s.sql',
        'create server s foreign data wrapper postgres_fdw; create foreign table landing.call (n integer) server s;',
      ],
      [
        'staging/call.sql',
        `create table staging.call (n integer) with (owner = 'Harbour Master', tags = 'calls, port');\nselect n from landing.call;`,
      ],
      ['core/fact.sql', `create table core.fact (n integer);\nselect n from staging.call;`],
      ['mart/dues.sql', `create table mart.dues (n integer) with (owner = 'dues office');\nselect n from core.fact;`],
      ['mart/other.sql', `create table mart.other (n integer) with (owner = 'Jonas Reet');\nselect 1 as n;`],
    ]),
  );
});

const desk = (name: string, of: Partial<DeskRow> = {}): DeskRow => ({
  id: name.replaceAll(' ', '-'),
  name,
  members: [],
  mail: null,
  webhook: null,
  secret: null,
  ...of,
});
const person = (
  name: string,
  of: Partial<KnownPerson['reading']> = {},
  mail: string | null = `${name}@x.example`,
): KnownPerson => ({
  name,
  displayName: name === 'jonas' ? 'Jonas Reet' : name,
  mail,
  reading: { ...USUAL, mail, ...of },
});
const told = (
  tables: string[],
  { desks = [] as DeskRow[], people = [] as KnownPerson[], severity = 'medium' as const } = {},
) => recipientsOf(project, { tables, severity }, { desks, people }).map((r) => `${r.channel} ${r.receiver}`);

test('owners of a table, then of what reads it', () => {
  expect(ownersAround(project, ['landing.call'])).toEqual(['Harbour Master', 'dues office']);
  expect(ownersAround(project, ['mart.dues'])).toEqual(['dues office']);
});

describe('who is told', () => {
  test('a desk by its members, its mail and its webhook, whatever the case of its name', () => {
    const desks = [
      desk('harbour master', { members: ['mira'], mail: 'h@x.example', webhook: 'https://x.example' }),
      desk('other'),
    ];
    expect(told(['staging.call'], { desks, people: [person('mira'), person('vera')] })).toEqual([
      'application person:mira',
      'mail person:mira',
      'mail desk:harbour-master',
      'webhook desk:harbour-master',
    ]);
  });
  test('a person who owns a table by the name that is shown', () => {
    expect(told(['mart.other'], { people: [person('jonas')] })).toEqual([
      'application person:jonas',
      'mail person:jonas',
    ]);
  });
  test('once, who is in several desks', () => {
    const desks = [desk('harbour master', { members: ['mira'] }), desk('dues office', { members: ['mira'] })];
    expect(told(['staging.call'], { desks, people: [person('mira')] })).toEqual([
      'application person:mira',
      'mail person:mira',
    ]);
  });
  test.each<[string, Partial<KnownPerson['reading']>, string[]]>([
    [
      'all that is severe enough',
      { subscriptions: [{ kind: 'all', value: '', least: 'medium' }] },
      ['application person:vera', 'mail person:vera'],
    ],
    ['what is not severe enough', { subscriptions: [{ kind: 'all', value: '', least: 'high' }] }, []],
    [
      'a table',
      { subscriptions: [{ kind: 'table', value: 'staging.call', least: 'low' }] },
      ['application person:vera', 'mail person:vera'],
    ],
    ['another table', { subscriptions: [{ kind: 'table', value: 'core.fact', least: 'low' }] }, []],
    [
      'a tag',
      { subscriptions: [{ kind: 'tag', value: 'Port', least: 'low' }], channels: ['mail'] },
      ['mail person:vera'],
    ],
    [
      'an owner',
      { subscriptions: [{ kind: 'owner', value: 'harbour master', least: 'low' }], channels: ['application'] },
      ['application person:vera'],
    ],
    ['nothing by no channel', { subscriptions: [{ kind: 'all', value: '', least: 'low' }], channels: [] }, []],
  ])('by subscription: %s', (_, reading, expected) => {
    expect(told(['staging.call'], { people: [person('vera', reading)] })).toEqual(expected);
  });
  test('an owner hears of nothing below what is wished', () => {
    const desks = [desk('dues office', { members: ['mira'] })];
    expect(told(['mart.dues'], { desks, people: [person('mira', { least: 'high' })] })).toEqual([]);
  });
  test('who has no address gets no mail', () => {
    const desks = [desk('dues office', { members: ['mira'] })];
    expect(told(['mart.dues'], { desks, people: [person('mira', {}, null)] })).toEqual(['application person:mira']);
  });
});
