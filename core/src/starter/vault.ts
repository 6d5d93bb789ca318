import { plainIdent } from '../sql/quote.js';
import { contractLines } from './dimension.js';
import { named, select, text, type StarterColumn } from './text.js';
import { tableText } from '../sql/quote.js';

/** Something that has a key of its own in the business: a call, a vessel. */
export interface VaultEntity {
  /** What its tables are called after: `call` makes `hub_call`. */
  readonly name: string;
  /** The columns of the source that are its key, with types. */
  readonly key: readonly StarterColumn[];
  /** Another table that has all of its keys, where they are called otherwise perhaps. */
  readonly also?: { readonly table: string; readonly columns: readonly string[] };
}

export interface VaultChoices {
  readonly source: string;
  readonly entity: VaultEntity;
  /** What the satellite describes the entity with. */
  readonly attributes: readonly StarterColumn[];
  /** Other entities that the source's rows point to: each gets a hub, and a link to the entity. */
  readonly related: readonly VaultEntity[];
  /** A table that says of each day which version of the satellite held at its end. */
  readonly pointInTime?: { readonly from: string; readonly to: string };
  /** A table that leads from the entity over all links. */
  readonly bridge: boolean;
}

/** One table of a vault. @param full the full name of a table, by the name that is suggested for it */
export interface VaultTable {
  readonly name: string;
  readonly sql: (full: (name: string) => string) => string;
}

type Line = readonly [name: string, type: string, rest: string];

const hubName = (e: VaultEntity) => `hub_${e.name}`;
const hubKey = (e: VaultEntity) => plainIdent(`${e.name}_hub`);
const typeOf = (c: StarterColumn) => c.type ?? 'text';
const keyNames = (e: VaultEntity) => e.key.map((k) => k.name);
const FIRST_SEEN: Line = ['first_seen', 'timestamptz', "options (role 'loaded at') not null"];

function definition(
  said: string,
  fullName: string,
  lines: readonly Line[],
  options: readonly string[],
  query: string,
): string {
  return `-- ${said}\ncreate table ${tableText(fullName)} (\n${contractLines(lines).join(',\n')}\n)${options.length ? ` with (${options.join(', ')})` : ''};\n\n${query};\n`;
}

/** A raw vault over one source: hubs of keys, links between them, a satellite, and what makes them easy to read. */
export function vaultTables(choices: VaultChoices): VaultTable[] {
  const { entity, related } = choices;
  return [
    ...[entity, ...related].map((e) => hub(choices, e)),
    ...related.map((e) => link(choices, e)),
    ...(choices.attributes.length ? [satellite(choices)] : []),
    ...(choices.pointInTime && choices.attributes.length ? [pointInTime(choices, choices.pointInTime)] : []),
    ...(choices.bridge && related.length ? [bridge(choices)] : []),
  ];
}

/** Every key that was ever seen, once: nothing is changed and nothing goes. */
function hub({ source }: VaultChoices, e: VaultEntity): VaultTable {
  const keys = keyNames(e);
  const rows = (table: string, columns: readonly string[], distinct: boolean) =>
    select(
      columns.map((c, i) => named(plainIdent(c), keys[i]!)),
      [`from ${tableText(table)}`, `where ${columns.map((c) => `${plainIdent(c)} is not null`).join(' and ')}`],
      distinct ? 'select distinct' : 'select',
    );
  const query = e.also
    ? `${rows(source, keys, false)}\nunion\n${rows(e.also.table, e.also.columns, false)}`
    : rows(source, keys, true);
  const unique = keys.length === 1 ? ' unique' : '';
  return {
    name: hubName(e),
    sql: (full) =>
      definition(
        `Every ${e.name} that was ever seen, by its key`,
        full(hubName(e)),
        [
          [hubKey(e), 'bigint', "options (role 'surrogate key') primary key"],
          ...e.key.map((k): Line => [plainIdent(k.name), typeOf(k), `not null${unique}`]),
          FIRST_SEEN,
        ],
        ['load = merge', `business_key = ${text(keys.join(', '))}`, 'key_method = hash'],
        query,
      ),
  };
}

const reference = (e: VaultEntity, full: (name: string) => string): Line => [
  hubKey(e),
  'bigint',
  `options (looked_up_by ${text(keyNames(e).join(', '))}) not null references ${tableText(full(hubName(e)))} (${hubKey(e)})`,
];
const linkName = (entity: VaultEntity, e: VaultEntity) => `link_${entity.name}_${e.name}`;

/** Every pair of keys that was ever seen together. */
function link({ source, entity }: VaultChoices, e: VaultEntity): VaultTable {
  const columns = [...entity.key, ...e.key.filter((k) => !keyNames(entity).includes(k.name))];
  const names = columns.map((c) => c.name);
  return {
    name: linkName(entity, e),
    sql: (full) =>
      definition(
        `Which ${entity.name} was ever seen with which ${e.name}`,
        full(linkName(entity, e)),
        [
          [plainIdent(`${entity.name}_${e.name}_link`), 'bigint', "options (role 'surrogate key') primary key"],
          reference(entity, full),
          reference(e, full),
          ...columns.map((c): Line => [plainIdent(c.name), typeOf(c), 'not null']),
          FIRST_SEEN,
        ],
        ['load = merge', `business_key = ${text(names.join(', '))}`, 'key_method = hash'],
        select(
          names.map((n) => plainIdent(n)),
          [`from ${tableText(source)}`, `where ${names.map((n) => `${plainIdent(n)} is not null`).join(' and ')}`],
          'select distinct',
        ),
      ),
  };
}

const satelliteName = (e: VaultEntity) => `sat_${e.name}`;
const satelliteKey = (e: VaultEntity) => plainIdent(`${e.name}_sat`);

/** What was said of each key, and when. */
function satellite({ source, entity, attributes }: VaultChoices): VaultTable {
  const keys = keyNames(entity);
  return {
    name: satelliteName(entity),
    sql: (full) =>
      definition(
        `What was said of each ${entity.name}, and when`,
        full(satelliteName(entity)),
        [
          [satelliteKey(entity), 'bigint', "options (role 'surrogate key') primary key"],
          reference(entity, full),
          ...entity.key.map((k): Line => [plainIdent(k.name), typeOf(k), 'not null']),
          ...attributes.map((a): Line => [plainIdent(a.name), typeOf(a), '']),
          ['says', 'uuid', "options (role 'row hash') not null"],
          ['valid_from', 'timestamptz', "options (role 'valid from') not null"],
          ['valid_to', 'timestamptz', "options (role 'valid to')"],
          ['is_current', 'boolean', "options (role 'current flag') not null"],
        ],
        ['load = history', `business_key = ${text(keys.join(', '))}`],
        select(
          [...keys, ...attributes.map((a) => a.name)].map((n) => plainIdent(n)),
          [`from ${tableText(source)}`, `where ${keys.map((k) => `${plainIdent(k)} is not null`).join(' and ')}`],
        ),
      ),
  };
}

/** Which version of the satellite held at the end of each day: a join without intervals. */
function pointInTime(
  { entity }: VaultChoices,
  { from, to }: { readonly from: string; readonly to: string },
): VaultTable {
  const name = `pit_${entity.name}`;
  const key = hubKey(entity);
  return {
    name,
    sql: (full) =>
      definition(
        `Which version of ${satelliteName(entity)} held at the end of each day`,
        full(name),
        [
          [key, 'bigint', `not null references ${tableText(full(hubName(entity)))} (${key})`],
          ['day', 'date', 'not null'],
          [satelliteKey(entity), 'bigint', ''],
          ['primary key', `(${key}, day)`, ''],
        ],
        [],
        select(
          [`h.${key}`, 'd.day::date as day', `s.${satelliteKey(entity)}`],
          [
            `from ${tableText(full(hubName(entity)))} h`,
            `cross join generate_series(${text(from)}::date, ${text(to)}::date, interval '1 day') as d (day)`,
            `left join ${tableText(full(satelliteName(entity)))} s`,
            `  on s.${key} = h.${key}`,
            ` and s.valid_from < d.day + interval '1 day'`,
            ` and (s.valid_to is null or s.valid_to >= d.day + interval '1 day')`,
            `where h.${key} <> 0`,
          ],
        ),
      ),
  };
}

/** From the entity over all links to the keys of the others. */
function bridge({ entity, related }: VaultChoices): VaultTable {
  const name = `bridge_${entity.name}`;
  const key = hubKey(entity);
  return {
    name,
    sql: (full) =>
      definition(
        `From each ${entity.name} over its links`,
        full(name),
        [
          [key, 'bigint', 'not null'],
          ...entity.key.map((k): Line => [plainIdent(k.name), typeOf(k), 'not null']),
          ...related.map((e): Line => [hubKey(e), 'bigint', '']),
          ...related.flatMap((e) => e.key.map((k): Line => [plainIdent(bridged(e, k)), typeOf(k), ''])),
        ],
        [],
        select(
          [
            `h.${key}`,
            ...entity.key.map((k) => `h.${plainIdent(k.name)}`),
            ...related.map((e, i) => `l${i + 1}.${hubKey(e)}`),
            ...related.flatMap((e, i) => e.key.map((k) => named(`l${i + 1}.${plainIdent(k.name)}`, bridged(e, k)))),
          ],
          [
            `from ${tableText(full(hubName(entity)))} h`,
            ...related.map(
              (e, i) => `left join ${tableText(full(linkName(entity, e)))} l${i + 1} on l${i + 1}.${key} = h.${key}`,
            ),
            `where h.${key} <> 0`,
          ],
        ),
      ),
  };
  /** Two others may be called by columns of the same name. */
  function bridged(e: VaultEntity, k: StarterColumn): string {
    const taken = [entity, ...related].filter((o) => o !== e).some((o) => keyNames(o).includes(k.name));
    return taken ? `${e.name}_${k.name}` : k.name;
  }
}
