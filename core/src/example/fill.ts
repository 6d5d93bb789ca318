import { columnWith, hasRole, roleOf } from '../language/roles.js';
import { isFilled, isLookUp } from '../language/contract.js';
import { type Target, targetOf } from '../compile/target.js';
import { adoptNumbers, filledValue, keyMapsOf, numbersOf } from '../keys/keys.js';
import { unknownMember } from '../keys/members.js';
import type { Place } from '../model/place.js';
import type { ColumnDeclaration, Definition, ExampleFile, Project } from '../model/project.js';
import { ident, idents, qualified } from '../sql/quote.js';
import { csvText } from '../index/csv.js';
import { keyOfMember } from './member-text.js';

/** What makes and fills tables of an example, in order. */
export type ExampleStep =
  | { readonly kind: 'run'; readonly sql: string }
  /** The text goes through COPY; an error of it has its place in the file. */
  | { readonly kind: 'copy'; readonly sql: string; readonly text: string; readonly file: ExampleFile };

export const runs = (sql: string): ExampleStep => ({ kind: 'run', sql });

/** Fills a table with the rows of a file; columns that the file does not name are null. */
export function copies(place: Place, file: ExampleFile): ExampleStep {
  return {
    kind: 'copy',
    sql: `copy ${qualified(place)} (${idents(file.header)}) from stdin (format csv, header true)`,
    text: csvText(file.header, file.rows),
    file,
  };
}

/** Rows of a file before what a load fills is put to them. */
const GIVEN: Place = { schema: 'pg_temp', name: 'given_rows' };

/**
 * Fills a table that loads keep: columns that the file does not name have what a load would have given, and the
 * numbers of keys are remembered, so that loads go on from them.
 * @param placeOf where dimensions are in which the table looks keys up
 */
export function keptRows(
  project: Project,
  table: Definition,
  file: ExampleFile,
  { place, placeOf }: { readonly place: Place; readonly placeOf: (table: string) => Place },
): ExampleStep[] {
  const target = targetOf(project, table);
  const given = target.columns.filter((c) => file.header.includes(c.name));
  const columns = given.map((c) => `${ident(c.name)} ${isLookUp(c) ? 'text' : c.type}`);
  const maps = keyMapsOf(target, place);
  const key = idents(target.key);
  const validFrom = columnWith(target, 'valid from');
  const numbers = numbersOf(
    maps.filter((m) => m.method === 'hash'),
    'r',
  );
  const beginsIn = target.columns.find((c) => c.name === validFrom);
  const begins =
    beginsIn && file.header.includes(beginsIn.name)
      ? `r.${ident(beginsIn.name)}`
      : `cast('-infinity' as ${beginsIn?.type ?? 'timestamptz'})`;
  const filled = (c: ColumnDeclaration): string | undefined => {
    const made = numbers.of(c);
    if (made !== undefined) return made;
    const versions = `over (partition by ${key} order by ${begins})`;
    switch (roleOf(c)) {
      case 'surrogate key':
        return `row_number() over (order by ${target.key.length ? key : 'r.row$'}${validFrom === undefined ? '' : `, ${begins}`})`;
      case 'durable key':
        return `dense_rank() over (order by ${key})`;
      case 'valid from':
        return "'-infinity'";
      case 'valid to':
        return `lead(${begins}) ${versions}`;
      case 'current flag':
        return `lead(1) ${versions} is null`;
      case 'version number':
        return `row_number() ${versions}`;
      default:
        return hasRole(c, 'row hash') || !isFilled(c)
          ? undefined
          : filledValue(target, c, (of) => `r.${ident(of.name)}`);
    }
  };
  const lookUpOf = (c: ColumnDeclaration) => target.lookUps.find((l) => l.column === c)?.dimension;
  const valueOf = (c: ColumnDeclaration): string => {
    const dimension = lookUpOf(c);
    if (dimension) {
      const isGiven = file.header.includes(c.name);
      return isGiven ? keyOfMember(project, dimension, placeOf(dimension.fullName), `r.${ident(c.name)}`) : '0';
    }
    if (file.header.includes(c.name)) return `r.${ident(c.name)}`;
    return filled(c) ?? 'null';
  };
  const items = target.columns.map((c) => `cast(${valueOf(c)} as ${c.type})`);
  return [
    runs(
      `create temp table given_rows (${['row$ bigint generated always as identity', ...columns].join(', ')}) on commit drop`,
    ),
    copies(GIVEN, file),
    runs(
      `insert into ${qualified(place)} (${idents(target.columns.map((c) => c.name))})\nselect ${items.join(',\n       ')}\nfrom ${qualified(GIVEN)} as r`,
    ),
    ...hashes(target, place, file),
    runs(`drop table ${qualified(GIVEN)}`),
    ...adoptNumbers(maps, place).map(runs),
    ...unknownMember(target, place).flatMap((s) => (s.step === 'run' ? [runs(s.sql)] : [])),
  ];
}

/** Hashes of rows are made from the rows that are there. */
function hashes(target: Target, place: Place, file: ExampleFile): ExampleStep[] {
  return target.columns
    .filter((c) => hasRole(c, 'row hash') && !file.header.includes(c.name))
    .map((c) =>
      runs(
        `update ${qualified(place)} as t set ${ident(c.name)} = ${filledValue(target, c, (of) => `t.${ident(of.name)}`)}`,
      ),
    );
}
