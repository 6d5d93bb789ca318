import type { RunDetail, RunEntry, StepEntry } from '@ouvrage/api/run';
import { setTimeout as sleep } from 'node:timers/promises';
import type { Format } from './check.js';
import type { Connection } from './connection.js';
import { EXIT, type Exit, type Surroundings } from './ended.js';
import { junit, type JunitCase } from './junit.js';

const LOOK_MILLISECONDS = 500;

/** How a run is told of. */
export interface Telling {
  readonly format: Format;
  readonly waits: boolean;
  readonly out: Surroundings['out'];
}

const lineOf = (step: StepEntry): string => {
  const broken = step.checks.filter((c) => c.verdict === 'broken').map((c) => c.id);
  return [
    `  ${step.table}: ${step.state}`,
    ...(step.rowsIn === null ? [] : [`${step.rowsIn} ${step.rowsIn === '1' ? 'row' : 'rows'}`]),
    ...(broken.length === 0 ? [] : [`broken: ${broken.join(', ')}`]),
    ...(step.error === null ? [] : [step.error.message]),
  ].join(', ');
};

/** Tells of a run that was asked for; until its end where that is waited for. @returns what the program ends with */
export async function tellOf(connection: Connection, run: RunEntry, { format, waits, out }: Telling): Promise<Exit> {
  const say = {
    text: (text: string) => out(`${text}\n`),
    json: () => undefined,
    junit: () => undefined,
  }[format];
  const json = (value: unknown) => format === 'json' && out(`${JSON.stringify(value)}\n`);
  say(`Run ${run.id}: ${run.kind} in ${run.environment}, ${run.state}`);
  if (!waits) {
    json({ run: run.id, state: run.state });
    return EXIT.well;
  }
  const told = new Map<number, string>();
  for (;;) {
    const found = await connection.get<RunDetail>(`runs/${run.id}`);
    for (const step of found.steps) {
      if (step.state === 'waiting' || step.state === 'running' || told.get(step.id) === step.state) continue;
      told.set(step.id, step.state);
      say(lineOf(step));
      json({
        run: run.id,
        table: step.table,
        state: step.state,
        rows: step.rowsIn,
        error: step.error?.message ?? null,
      });
    }
    if (found.state !== 'queued' && found.state !== 'running') return ended(found, { say, json, format, out });
    await sleep(LOOK_MILLISECONDS);
  }
}

function ended(
  run: RunDetail,
  {
    say,
    json,
    format,
    out,
  }: {
    readonly say: (text: string) => void;
    readonly json: (value: unknown) => void;
    readonly format: Format;
    readonly out: Surroundings['out'];
  },
): Exit {
  const checks = run.steps.flatMap((s) => s.checks);
  const broken = checks.filter((c) => c.verdict === 'broken').length;
  say(
    `Run ${run.id}: ${run.state}, ${checks.length} ${checks.length === 1 ? 'check' : 'checks'}, ${broken} broken${run.error === null ? '' : `: ${run.error}`}`,
  );
  json({ run: run.id, state: run.state, checks: checks.length, broken, error: run.error });
  if (format === 'junit') out(junit(`run ${run.id}`, suitesOf(run)));
  return run.state === 'succeeded' && broken === 0 ? EXIT.well : EXIT.broken;
}

/** A suite for each step: its own outcome, and each of its checks. */
function suitesOf({ steps }: RunDetail): Map<string, JunitCase[]> {
  return new Map(
    steps.map((step) => {
      const isWell = step.state === 'done' || step.state === 'reused';
      const message = step.error?.message ?? step.state;
      const load: JunitCase =
        step.state === 'failed'
          ? { name: step.kind, failure: { message, text: [message, step.error?.hint ?? ''].join('\n').trim() } }
          : { name: step.kind, isSkipped: !isWell };
      const checks = step.checks.map((c): JunitCase => {
        const found = `${c.atFault ?? '?'} of ${c.total ?? '?'} rows at fault`;
        return c.verdict === 'broken'
          ? { name: c.id, failure: { message: found, text: found } }
          : { name: c.id, isSkipped: c.verdict === 'not run' };
      });
      return [step.table, [load, ...checks]];
    }),
  );
}
