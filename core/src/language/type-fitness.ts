import { familyOf } from '../sql/types.js';

/** Which types can do what a load asks of them. Types are in their short forms; those that nobody here knows, such as enumerations and domains, are left to the database. */

const baseOf = (type: string): string => type.replace(/\(.*?\)/, '').replace(/(\[\])+$/, '');
const isArray = (type: string): boolean => type.endsWith('[]');

/** Their `=` compares areas or lengths, is fuzzy, or is none. */
const GEOMETRIC: ReadonlySet<string> = new Set(['point', 'line', 'lseg', 'box', 'path', 'polygon', 'circle']);
const WITHOUT_EQUALITY: ReadonlySet<string> = new Set(['xml', 'jsonpath']);

/** Why rows cannot be compared by values of a type; undefined where they can. json is compared as jsonb. */
export function comparisonProblem(type: string): string | undefined {
  const base = baseOf(type);
  if (GEOMETRIC.has(base)) return `PostgreSQL treats different values of type ${type} as equal`;
  if (WITHOUT_EQUALITY.has(base)) return `PostgreSQL cannot compare values of type ${type}`;
  return base === 'json' && isArray(type) ? `PostgreSQL cannot compare values of type ${type}` : undefined;
}

/** Why a type cannot tell rows apart as a key; undefined where it can. */
export const keyProblem = (type: string): string | undefined =>
  type === 'json' ? 'PostgreSQL cannot compare values of type json' : comparisonProblem(type);

/** Types of which PostgreSQL knows no greatest value. */
const WITHOUT_GREATEST: ReadonlySet<string> = new Set([
  ...GEOMETRIC,
  ...WITHOUT_EQUALITY,
  ...[
    'boolean',
    'uuid',
    'bytea',
    'json',
    'jsonb',
    'bit',
    'bit varying',
    'varbit',
    'macaddr',
    'macaddr8',
    'tsvector',
    'tsquery',
    'record',
  ],
  ...['int4', 'int8', 'num', 'ts', 'tstz', 'date'].flatMap((of) => [`${of}range`, `${of}multirange`]),
]);

/** Why the greatest value of a type cannot say how far a table has come; undefined where it can. */
export function watermarkProblem(type: string): string | undefined {
  const unfit = isArray(type)
    ? 'json' === baseOf(type) || GEOMETRIC.has(baseOf(type))
    : WITHOUT_GREATEST.has(baseOf(type));
  return unfit ? `values of type ${type} have no greatest one` : undefined;
}

/** Whether one can go back in values of a type by a length of time. */
export const goesBackInTime = (type: string): boolean => ['date', 'instant', 'interval'].includes(familyOf(type));
/** Whether one can go back in values of a type by a number. */
const goesBackByNumbers = (type: string): boolean => familyOf(type) === 'number' && type !== 'money';

/** Why a look-back cannot be taken off values of a type; undefined where it can. */
export function lookBackProblem(type: string, back: string): string | undefined {
  const isNumber = /^\s*\d+(\.\d+)?\s*$/.test(back);
  if (goesBackInTime(type))
    return isNumber ? `for a ${baseOf(type)} it is a length of time such as '3 days'` : undefined;
  if (goesBackByNumbers(type)) return isNumber ? undefined : `for type ${baseOf(type)} it is a number`;
  return `look_back is not possible for values of type ${type}`;
}
