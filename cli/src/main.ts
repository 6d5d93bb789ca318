import { loadParser, nearest } from '@ouvrage/core/sql';
import { type Command, COMMANDS } from './commands.js';
import { Ended, EXIT, type Exit, type Surroundings } from './ended.js';
import { OPTIONS, optionsOf } from './options.js';

/**
 * Runs one command.
 * @param args what follows the program's name
 * @returns what the program ends with: 0 well, 1 errors or broken checks, 2 wrong use, 3 server not reached, 4 refused
 */
export async function main(args: readonly string[], around: Surroundings): Promise<Exit> {
  const [name, ...rest] = args;
  try {
    if (name === undefined || name === 'help' || name === '--help') {
      around.out(usage());
      return name === undefined ? EXIT.wrongUse : EXIT.well;
    }
    const command = Object.hasOwn(COMMANDS, name) ? COMMANDS[name] : undefined;
    if (!command) {
      const near = nearest(name, Object.keys(COMMANDS));
      throw new Ended(EXIT.wrongUse, `There is no command ${name}`, near && `Did you mean ${near}?`);
    }
    const options = optionsOf(rest, [...command.options, 'help'], command.takes.length);
    if (options.flag('help')) {
      around.out(usageOf(name, command));
      return EXIT.well;
    }
    await loadParser();
    return await command.run(options, around);
  } catch (error) {
    if (!(error instanceof Ended)) throw error;
    around.err(`ouvrage: ${error.message}${error.hint ? `\n${error.hint}` : ''}\n`);
    return error.code;
  }
}

const heading = (name: string, { takes }: Command): string => ['ouvrage', name, ...takes].join(' ');

const usage = (): string =>
  [
    ...Object.entries(COMMANDS).map(([name, c]) => `${heading(name, c).padEnd(28)} ${c.says}`),
    '',
    'ouvrage COMMAND --help tells its options. OUVRAGE_SERVER and OUVRAGE_TOKEN say which server, and by whom.',
    'It ends with 0: well, 1: errors or broken checks, 2: wrong use, 3: server not reached, 4: refused.',
    '',
  ].join('\n');

const usageOf = (name: string, command: Command): string =>
  [
    heading(name, command),
    command.says,
    '',
    ...command.options.map((option) => {
      const { value, says } = OPTIONS[option];
      return `  ${`--${option} ${value}`.padEnd(32)} ${says}`;
    }),
    '',
  ].join('\n');
