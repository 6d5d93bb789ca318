/** Functions of PostgreSQL that ask the time of the transaction, the statement or the call. */
const TIMES: ReadonlySet<string> = new Set(['now', 'transaction_timestamp', 'statement_timestamp', 'clock_timestamp']);

/** Functions of PostgreSQL whose result differs from call to call. */
export const isVolatile = (name: string): boolean =>
  /^(random|random_normal|clock_timestamp|timeofday|gen_random_uuid|uuid_generate_v[14].*)$/.test(name);

/** What a call by this name depends on, where it is the moment at which it runs. @param name a function of PostgreSQL */
export function momentOfCall(name: string): { readonly name: string; readonly kind: 'time' | 'volatile' } | undefined {
  if (TIMES.has(name)) return { name, kind: 'time' };
  return isVolatile(name) ? { name, kind: 'volatile' } : undefined;
}

/** Values of time that SQL writes without parentheses, by the parser's name. */
const VALUES: Readonly<Record<string, string>> = {
  SVFOP_CURRENT_DATE: 'current_date',
  SVFOP_CURRENT_TIME: 'current_time',
  SVFOP_CURRENT_TIME_N: 'current_time',
  SVFOP_CURRENT_TIMESTAMP: 'current_timestamp',
  SVFOP_CURRENT_TIMESTAMP_N: 'current_timestamp',
  SVFOP_LOCALTIME: 'localtime',
  SVFOP_LOCALTIME_N: 'localtime',
  SVFOP_LOCALTIMESTAMP: 'localtimestamp',
  SVFOP_LOCALTIMESTAMP_N: 'localtimestamp',
};

/** The name of a value of time; undefined for others, as `current_user`. @param op the parser's name */
export const momentOfValue = (op: string): string | undefined => VALUES[op];

/** Whether a word is a value of time, as SQL writes it. */
export const isTimeWord = (word: string): boolean => Object.values(VALUES).includes(word);
