import { parseArgs, type ParseArgsConfig } from 'node:util';
import { nearest } from '@ouvrage/core/sql';
import { Ended, EXIT } from './ended.js';

type Kind = 'text' | 'texts' | 'flag';

/** Every option, with what it says; a command takes those that it lists. */
export const OPTIONS = {
  server: { kind: 'text', value: 'URL', says: 'the server; OUVRAGE_SERVER by default' },
  target: { kind: 'text', value: 'NAME', says: 'the target; production by default' },
  workspace: { kind: 'text', value: 'NAME', says: 'a workspace instead of a target' },
  table: { kind: 'texts', value: 'NAME', says: 'a table, core.dim_vessel; may be repeated' },
  layer: { kind: 'texts', value: 'NAME', says: 'all tables of a layer; may be repeated' },
  owner: { kind: 'texts', value: 'NAME', says: 'all tables of an owner; may be repeated' },
  'changed-since': { kind: 'text', value: 'COMMIT', says: 'of these, what has changed since a commit' },
  'with-inputs': { kind: 'flag', value: '', says: 'with all that they read' },
  'with-readers': { kind: 'flag', value: '', says: 'with all that reads them' },
  param: { kind: 'texts', value: 'NAME=VALUE', says: 'a parameter of the run; may be repeated' },
  message: { kind: 'text', value: 'TEXT', says: 'what the release changes, and why' },
  consent: { kind: 'texts', value: 'NAME', says: 'what may be dropped, by its name; may be repeated' },
  restore: { kind: 'flag', value: '', says: 'by the kept copies, instead of with today’s rows' },
  form: { kind: 'text', value: 'script|procedures', says: 'one script, or stored procedures' },
  format: { kind: 'text', value: 'text|json|junit', says: 'how results are written; text by default' },
  wait: { kind: 'flag', value: '', says: 'until the run has ended' },
  help: { kind: 'flag', value: '', says: 'this' },
} as const satisfies Readonly<Record<string, { kind: Kind; value: string; says: string }>>;

export type OptionName = keyof typeof OPTIONS;

/** The options of one call. */
export interface Options {
  readonly rest: readonly string[];
  text(name: OptionName): string | undefined;
  texts(name: OptionName): readonly string[];
  flag(name: OptionName): boolean;
}

const TYPES: Readonly<Record<Kind, { type: 'string' | 'boolean'; multiple?: boolean }>> = {
  text: { type: 'string' },
  texts: { type: 'string', multiple: true },
  flag: { type: 'boolean' },
};

/**
 * Reads the arguments of a command.
 * @param most arguments that are none of options
 * @throws Ended that names what is wrong, with the nearest right name
 */
export function optionsOf(args: readonly string[], allowed: readonly OptionName[], most: number): Options {
  const options: NonNullable<ParseArgsConfig['options']> = Object.fromEntries(
    allowed.map((name) => [name, TYPES[OPTIONS[name].kind]]),
  );
  const known = new Set<string>(allowed);
  for (const arg of args) {
    const name = /^--([^=]+)/.exec(arg)?.[1];
    if (name === undefined || known.has(name)) continue;
    const near = nearest(name, [...known]);
    throw new Ended(EXIT.wrongUse, `There is no option --${name} here`, near && `Did you mean --${near}?`);
  }
  const { values, positionals } = parsed(args, options);
  if (positionals.length > most) throw new Ended(EXIT.wrongUse, `${positionals[most]!} is one argument too many`);
  return {
    rest: positionals,
    text: (name) => values[name] as string | undefined,
    texts: (name) => (values[name] as string[] | undefined) ?? [],
    flag: (name) => values[name] === true,
  };
}

function parsed(args: readonly string[], options: NonNullable<ParseArgsConfig['options']>) {
  try {
    return parseArgs({ args: [...args], options, allowPositionals: true, strict: true });
  } catch (error) {
    throw new Ended(EXIT.wrongUse, error instanceof Error ? error.message : String(error));
  }
}
