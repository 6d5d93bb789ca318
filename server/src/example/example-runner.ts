import { Injectable } from '@nestjs/common';
import type { ExampleOutcome } from '@ouvrage/api/example';
import { compareRows, type ExamplePlan, type ExampleStep, planExample } from '@ouvrage/core/example';
import { exampleDefinition } from '@ouvrage/core/graph';
import {
  type Diagnostic,
  type Environment,
  type Example,
  type Project,
  stagedSchema,
  workspaceEnvironment,
} from '@ouvrage/core/model';
import { schemaNames } from '@ouvrage/core/resolve';
import { ident, qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { Loader } from '../load/loader.js';
import { LoadStopped, StatementFailed } from '../warehouse/load-errors.js';
import { isOfStatement, stepError } from '../warehouse/sql-error.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';

/** One example, all of its loads together, may not take longer than people wait for it: OUVRAGE_EXAMPLE_SECONDS. */
const mostSeconds = (): number => Number(process.env['OUVRAGE_EXAMPLE_SECONDS'] ?? 10);
/** Rows of a comparison that are kept; those that differ come first. */
const KEPT_ROWS = 200;

/** Something failed while an example ran, and where. */
class ExampleFailed extends Error {
  constructor(
    readonly failure: unknown,
    readonly at: { readonly step?: ExampleStep; readonly load?: number },
  ) {
    super(failure instanceof Error ? failure.message : String(failure));
  }
}

/** Why an example cannot be run: an error in its own files or in its definition. */
export function whyNot(project: Project, example: Example): Diagnostic | undefined {
  const paths = new Set(example.files.map((f) => f.path));
  const definition = exampleDefinition(example.table, project.tables);
  if (definition) paths.add(definition.path);
  return project.diagnostics.find((d) => d.severity === 'error' && paths.has(d.path));
}

/** Runs worked examples: real loads in schemas of their own, in a transaction that is taken back. */
@Injectable()
export class ExampleRunner {
  constructor(private readonly warehouse: WarehouseService) {}

  /**
   * @param prefix of the environment's schemas: examples have theirs beside them
   * @param example of which nothing says that it cannot run (`whyNot`)
   * @returns undefined where its definition has no query
   */
  async run(project: Project, example: Example, prefix: string): Promise<ExampleOutcome | undefined> {
    const environment = workspaceEnvironment(`${prefix}~example`, []);
    const plan = planExample(project, example, environment);
    if (!plan) return undefined;
    await this.warehouse.prepare(environment, schemaNames(project.layers, project.tables.values()));
    const most = mostSeconds();
    const started = performance.now();
    const taken = () => Math.round(performance.now() - started);
    const over = new AbortController();
    const timer = setTimeout(() => over.abort(), most * 1000);
    const run = (client: pg.ClientBase) => {
      const loader = new Loader(client);
      loader.begin();
      return this.loads(loader, plan, environment);
    };
    try {
      const { expected, actual } = await this.warehouse.trial('workspace', run, over.signal);
      return { ...compared(plan, expected, actual), milliseconds: taken() };
    } catch (error) {
      const told = over.signal.aborted
        ? { message: `it took longer than ${most} seconds`, hint: 'An example needs a few rows only.' }
        : failure(error, project);
      if (!told) throw error;
      return { verdict: 'failed', columns: [], rows: [], error: told, milliseconds: taken() };
    } finally {
      clearTimeout(timer);
    }
  }

  private async loads(loader: Loader, plan: ExamplePlan, environment: Environment) {
    for (const step of plan.begin) await stepOf(loader, step);
    for (const [i, load] of plan.loads.entries()) {
      for (const step of load.inputs) await stepOf(loader, step);
      try {
        const { plan: made } = await loader.makeStaged(load.plan, { next: 'others' });
        if (made.swaps) await moveIntoPlace(loader, made, environment);
      } catch (error) {
        throw new ExampleFailed(error, plan.loads.length > 1 ? { load: i + 1 } : {});
      }
    }
    const rows = async (sql: string) =>
      (await loader.client.query<(string | null)[]>({ text: sql, rowMode: 'array' })).rows;
    return { expected: await rows(plan.expected), actual: await rows(plan.actual) };
  }
}

async function stepOf(loader: Loader, step: ExampleStep): Promise<void> {
  try {
    if (step.kind === 'copy') await loader.copy(step.sql, step.text);
    else await loader.run({ kind: 'build', sql: step.sql });
  } catch (error) {
    throw new ExampleFailed(error, { step });
  }
}

/** The table that a load has made takes the place of the one before. */
async function moveIntoPlace(
  loader: Loader,
  { staged, target, relation }: Pick<ExamplePlan['loads'][number]['plan'], 'staged' | 'target' | 'relation'>,
  environment: Environment,
): Promise<void> {
  const sql = [
    `drop ${relation} if exists ${qualified(target)}`,
    `alter ${relation} ${qualified(staged)} set schema ${ident(target.schema)}`,
  ];
  if (staged.schema !== stagedSchema(target.schema) || environment.kind !== 'workspace')
    throw new Error(`${qualified(staged)} is not an example's`);
  for (const statement of sql) await loader.plain('swap', statement);
}

type Values = readonly (string | null)[];

function compared(
  plan: ExamplePlan,
  expected: readonly Values[],
  actual: readonly Values[],
): Omit<ExampleOutcome, 'milliseconds'> {
  const rows = compareRows(expected, actual, plan);
  const isSame = rows.every((r) => r.kind === 'same');
  const kept =
    rows.length <= KEPT_ROWS ? rows : [...rows].sort((a, b) => Number(a.kind === 'same') - Number(b.kind === 'same'));
  return {
    verdict: isSame ? 'holds' : 'differs',
    columns: plan.columns,
    rows: kept.slice(0, KEPT_ROWS),
    error: null,
  };
}

/** Why an example failed, in words; undefined where it is not the example's own fault. */
function failure(error: unknown, project: Project): ExampleOutcome['error'] | undefined {
  const { failure: cause, at } = error instanceof ExampleFailed ? error : { failure: error, at: {} };
  const load = at.load === undefined ? {} : { load: at.load };
  if (cause instanceof LoadStopped)
    return { message: cause.message, ...(cause.hint === undefined ? {} : { hint: cause.hint }), ...load };
  const inner = cause instanceof StatementFailed ? cause.cause : cause;
  if (!isOfStatement(inner)) return undefined;
  const { step } = at;
  if (step?.kind === 'copy') {
    // PostgreSQL counts the lines of what it was sent: a header, then a line a row.
    const line = Number(/, line (\d+)/.exec(inner.where ?? '')?.[1] ?? 1);
    return { message: inner.message, path: step.file.path, line: lineOf(project, step, line) };
  }
  const { message, hint, path, line } = stepError(
    inner,
    project,
    cause instanceof StatementFailed ? cause.statement.author : undefined,
  );
  return {
    message,
    ...(hint === undefined ? {} : { hint }),
    ...(path === undefined ? {} : { path }),
    ...(line === undefined ? {} : { line }),
    ...load,
  };
}

/** The line of the file that holds a row which was sent. @param sent from 1, the header's */
function lineOf(project: Project, { file }: Extract<ExampleStep, { kind: 'copy' }>, sent: number): number {
  const start = (sent < 2 ? file.headerRange : (file.ranges[sent - 2] ?? file.headerRange)).start;
  return (project.files.get(file.path)?.text.slice(0, start).split('\n').length ?? 1) || 1;
}
