import { columnWith } from '../language/roles.js';
import { targetOf } from '../compile/target.js';
import type { Definition, Project } from '../model/project.js';
import { ident, qualified } from '../sql/quote.js';
import type { Place } from '../model/place.js';

/** What stands for the unknown member. */
export const UNKNOWN = 'unknown';
/** Between a member and the beginning of its version. */
export const FROM = ' from ';

/** SQL over a row of a dimension: what its member is called, and when its version begins. */
function partsOf(project: Project, dimension: Definition, alias: string) {
  const target = targetOf(project, dimension);
  const validFrom = columnWith(target, 'valid from');
  return {
    number: `${alias}.${ident(columnWith(target, 'surrogate key')!)}`,
    member: `concat_ws('/', ${target.key.map((k) => `cast(${alias}.${ident(k)} as text)`).join(', ')})`,
    from: validFrom === undefined ? undefined : `cast(${alias}.${ident(validFrom)} as text)`,
  };
}

/** A key as the member that it means: `B12`, of a history `B12 from 2024-05-01 00:00:00+00`. @param key SQL of the number */
export function memberOfKey(project: Project, dimension: Definition, place: Place, key: string): string {
  const { number, member, from } = partsOf(project, dimension, 'd');
  const text = from === undefined ? member : `${member} || '${FROM}' || ${from}`;
  return `case when ${key} = 0 then '${UNKNOWN}' else (select ${text} from ${qualified(place)} as d where ${number} = ${key}) end`;
}

/** The key of a member that a text means; the newest version where none is named, 0 where there is none. @param text SQL */
export function keyOfMember(project: Project, dimension: Definition, place: Place, text: string): string {
  const { number, member, from } = partsOf(project, dimension, 'd');
  const version =
    from === undefined
      ? ''
      : ` or (starts_with(${text}, ${member} || '${FROM}') and starts_with(${from}, substr(${text}, length(${member} || '${FROM}') + 1)))`;
  const order = from === undefined ? '' : ` order by ${from} desc`;
  return `coalesce((select ${number} from ${qualified(place)} as d where ${number} <> 0 and (${member} = ${text}${version})${order} limit 1), 0)`;
}

/** Whether a text means the member that a key means: by its name alone, or with the beginning of its version. */
export function meansMember(expected: string | null, actual: string | null): boolean {
  if (expected === null || actual === null) return expected === actual;
  if (expected === actual || actual.startsWith(`${expected}${FROM}`)) return true;
  return expected.includes(FROM) && actual.startsWith(expected);
}
