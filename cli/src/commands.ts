import type { ReleaseEntry, TodayAnswer, WayBack } from '@ouvrage/api/release';
import type { RunEntry } from '@ouvrage/api/run';
import { checksOf, tableOfCheck } from '@ouvrage/core/check';
import { check, type Format } from './check.js';
import { Connection } from './connection.js';
import { Ended, EXIT, type Exit, type Surroundings } from './ended.js';
import { junit } from './junit.js';
import { runExamples } from './examples.js';
import type { OptionName, Options } from './options.js';
import { tellOf } from './runs.js';
import { environmentOf, inOrder, selectionOf } from './selection.js';

/** A command: what it is for, what it takes, what it does. */
export interface Command {
  readonly says: string;
  /** Its arguments that are none of options. */
  readonly takes: readonly string[];
  readonly options: readonly OptionName[];
  run(options: Options, around: Surroundings): Promise<Exit> | Exit;
}

const FORMATS: readonly Format[] = ['text', 'json', 'junit'];

function formatOf(options: Options, allowed: readonly Format[] = FORMATS): Format {
  const asked = options.text('format') ?? 'text';
  const found = allowed.find((f) => f === asked);
  if (!found) throw new Ended(EXIT.wrongUse, `There is no format ${asked} here`, `It is ${allowed.join(', or ')}.`);
  return found;
}

function argument({ rest }: Options, what: string): string {
  const [found] = rest;
  if (found === undefined) throw new Ended(EXIT.wrongUse, `Say ${what}`);
  return found;
}

const connectionOf = (options: Options, { env }: Surroundings): Connection =>
  Connection.from(env, options.text('server'));

const workspaceAt = (slug: string): string => `workspaces/${encodeURIComponent(slug)}`;

/** `NAME=VALUE` of each parameter. */
function parametersOf(options: Options): Record<string, string> {
  return Object.fromEntries(
    options.texts('param').map((given) => {
      const at = given.indexOf('=');
      if (at < 1) throw new Ended(EXIT.wrongUse, `--param ${given} is not NAME=VALUE`);
      return [given.slice(0, at), given.slice(at + 1)];
    }),
  );
}

const SELECTION = ['table', 'layer', 'owner', 'changed-since', 'with-inputs', 'with-readers'] as const;
const WHERE = ['server', 'target', 'workspace'] as const;

/** Says that a selection came to nothing, which is no error: a pipeline runs what has changed. */
function nothing({ out }: Surroundings, format: Format): Exit {
  if (format === 'text') out('Nothing is chosen that this could be done with.\n');
  if (format === 'json') out('[]\n');
  if (format === 'junit') out(junit('nothing', new Map()));
  return EXIT.well;
}

async function release(
  connection: Connection,
  options: Options,
  { slug, message, around }: { readonly slug: string; readonly message: string; readonly around: Surroundings },
): Promise<Exit> {
  const body = { message, consents: options.texts('consent') };
  const run = await connection.post<RunEntry>(`${workspaceAt(slug)}/release`, body);
  return tellOf(connection, run, { format: formatOf(options), waits: options.flag('wait'), out: around.out });
}

export const COMMANDS: Readonly<Record<string, Command>> = {
  check: {
    says: 'reads the project of a folder, without server or database, and says what is wrong with it',
    takes: ['DIR'],
    options: ['format'],
    run: (options, around) => check(argument(options, 'which folder'), formatOf(options), around),
  },
  plan: {
    says: 'the tables that a run would load, in their order',
    takes: [],
    options: [...WHERE, ...SELECTION, 'format'],
    run: async (options, around) => {
      const format = formatOf(options, ['text', 'json']);
      const tables = inOrder(await selectionOf(connectionOf(options, around), options));
      around.out(format === 'json' ? `${JSON.stringify(tables)}\n` : tables.map((t) => `${t}\n`).join(''));
      return EXIT.well;
    },
  },
  run: {
    says: 'loads tables and checks them',
    takes: [],
    options: [...WHERE, ...SELECTION, 'param', 'format', 'wait'],
    run: async (options, around) => {
      const connection = connectionOf(options, around);
      const [format, parameters] = [formatOf(options), parametersOf(options)];
      const { tables, withInputs, withReaders } = await selectionOf(connection, options);
      if (tables.length === 0) return nothing(around, format);
      const run = await connection.post<RunEntry>(`${workspaceAt(environmentOf(options))}/runs`, {
        tables,
        upstream: withInputs,
        downstream: withReaders,
        parameters,
      });
      return tellOf(connection, run, { format, waits: options.flag('wait'), out: around.out });
    },
  },
  test: {
    says: 'checks tables as they are, without loading',
    takes: [],
    options: [...WHERE, ...SELECTION, 'format', 'wait'],
    run: async (options, around) => {
      const connection = connectionOf(options, around);
      const format = formatOf(options);
      const selection = await selectionOf(connection, options);
      const checked = new Set(checksOf(selection.project).flatMap((c) => (c.kind === 'policy' ? [] : tableOfCheck(c))));
      const tables = inOrder(selection).filter((t) => checked.has(t));
      if (tables.length === 0) return nothing(around, format);
      const at = `${workspaceAt(environmentOf(options))}/checks`;
      const run = await connection.post<RunEntry>(at, { tables: selection.isAll ? [] : tables, checks: [] });
      return tellOf(connection, run, { format, waits: options.flag('wait'), out: around.out });
    },
  },
  examples: {
    says: 'runs worked examples: given rows, and the rows that must come of them',
    takes: [],
    options: [...WHERE, ...SELECTION, 'format'],
    run: async (options, around) => {
      const connection = connectionOf(options, around);
      const format = formatOf(options);
      const selection = await selectionOf(connection, options);
      const tables = inOrder(selection).filter((t) => selection.project.examples.has(t));
      if (tables.length === 0) return nothing(around, format);
      return runExamples(connection, workspaceAt(environmentOf(options)), { tables, format, out: around.out });
    },
  },
  release: {
    says: 'releases what a workspace has committed, as far as its review allows it',
    takes: ['WORKSPACE'],
    options: ['server', 'message', 'consent', 'format', 'wait'],
    run: (options, around) => {
      const slug = argument(options, 'which workspace');
      const message = options.text('message');
      if (!message?.trim()) throw new Ended(EXIT.wrongUse, 'Say --message TEXT: what the release changes, and why');
      return release(connectionOf(options, around), options, { slug, message, around });
    },
  },
  rollback: {
    says: 'goes back to before a release, by its definitions or by the kept copies: a release of its own',
    takes: ['RELEASE'],
    options: ['server', 'restore', 'consent', 'format', 'wait'],
    run: async (options, around) => {
      const id = argument(options, 'before which release');
      if (!/^[1-9]\d{0,8}$/.test(id)) throw new Ended(EXIT.wrongUse, `${id} is not the number of a release`);
      const connection = connectionOf(options, around);
      const restores = options.flag('restore');
      const { slug } = await connection.post<WayBack>(`releases/${id}/way-back`, { restores });
      if (formatOf(options) === 'text') around.out(`Workspace ${slug}\n`);
      return release(connection, options, { slug, message: `Back to before release ${id}`, around });
    },
  },
  script: {
    says: 'the SQL that loads tables, as text that runs without Ouvrage',
    takes: [],
    options: [...WHERE, ...SELECTION, 'form'],
    run: async (options, around) => {
      const connection = connectionOf(options, around);
      const form = options.text('form') ?? 'script';
      if (form !== 'script' && form !== 'procedures')
        throw new Ended(EXIT.wrongUse, `There is no form ${form}`, 'It is script, or procedures.');
      const tables = inOrder(await selectionOf(connection, options));
      const asked = new URLSearchParams({ tables: tables.join(','), form });
      around.out(await connection.text(`${workspaceAt(environmentOf(options))}/script?${asked.toString()}`));
      return EXIT.well;
    },
  },
  status: {
    says: 'the newest release, broken checks, late sources and failed runs',
    takes: [],
    options: [...WHERE, 'format'],
    run: async (options, around) => {
      const format = formatOf(options, ['text', 'json']);
      const connection = connectionOf(options, around);
      const environment = environmentOf(options);
      const [[newest], today] = await Promise.all([
        connection.get<ReleaseEntry[]>('releases'),
        connection.get<TodayAnswer>(`${workspaceAt(environment)}/today`),
      ]);
      const found = {
        environment,
        release: newest ? { id: newest.id, commit: newest.commit, message: newest.message, at: newest.at } : null,
        broken: today.broken.map((c) => c.id),
        late: today.late.map((s) => s.table),
        failedRuns: today.failedRuns.map((r) => r.id),
        errors: today.errors.length,
      };
      around.out(format === 'json' ? `${JSON.stringify(found, null, 2)}\n` : statusText(found));
      return found.broken.length + found.failedRuns.length + found.errors > 0 ? EXIT.broken : EXIT.well;
    },
  },
};

function statusText(found: {
  readonly environment: string;
  readonly release: { readonly id: number; readonly message: string } | null;
  readonly broken: readonly string[];
  readonly late: readonly string[];
  readonly failedRuns: readonly number[];
  readonly errors: number;
}): string {
  const listed = (what: string, all: readonly (string | number)[]) =>
    `${what}: ${all.length === 0 ? 'none' : all.join(', ')}`;
  return [
    found.environment,
    found.release ? `release: ${found.release.id} ${found.release.message.split('\n')[0]!}` : 'release: none yet',
    listed('broken checks', found.broken),
    listed('late sources', found.late),
    listed('failed runs', found.failedRuns),
    `errors in definitions: ${found.errors}`,
    '',
  ].join('\n');
}
