import { checksOf, queryCheck, tableOfCheck, type Check } from '@ouvrage/core/check';
import { functionsOf, fingerprints, reachable, readersOf, select } from '@ouvrage/core/graph';
import type { Project } from '@ouvrage/core/model';
import { didYouMean } from '@ouvrage/core/sql';
import { Problem } from '../shared/problem.js';
import type { Standing } from '../warehouse/loaded.js';

/** A step of a run before it runs. */
export interface PlannedStep {
  readonly kind: 'load' | 'check' | 'intake';
  readonly name: string;
  /** Names of steps that have to be done first. */
  readonly waitsFor: readonly string[];
  /** Read from production, where the same is loaded already. */
  readonly reused: boolean;
}

/**
 * The steps of a build: tables in dependency order, and each file of checks/ whose tables are all
 * there. What is downstream of the table that such a check is about waits for it.
 * @throws Problem when the selection reads what is nowhere built, or has errors
 */
export function planSteps(
  project: Project,
  selection: { tables: readonly string[]; upstream: boolean; downstream: boolean; startOver?: readonly string[] },
  standings: ReadonlyMap<string, Standing>,
  where: 'production' | 'workspace',
): PlannedStep[] {
  const chosen = selection.tables.length ? select(project.needs, selection) : new Set(project.tables.keys());
  return planTables(project, chosen, standings, {
    reusesProduction: where === 'workspace',
    ...(selection.startOver ? { startOver: selection.startOver } : {}),
  });
}

interface Planning {
  /** Whether what equals production is read from there. */
  readonly reusesProduction?: boolean;
  /** Names of checks/ that run though none of their tables is built. */
  readonly alsoChecks?: readonly string[];
  /** Source tables that are brought in first. */
  readonly broughtIn?: readonly string[];
  /** Tables that are built even where production has the same. */
  readonly startOver?: readonly string[];
}

/** The steps for exactly these tables. */
export function planTables(
  project: Project,
  chosen: ReadonlySet<string>,
  standings: ReadonlyMap<string, Standing>,
  { reusesProduction = false, alsoChecks = [], broughtIn = [], startOver = [] }: Planning = {},
): PlannedStep[] {
  const unknown = [...chosen].filter((t) => !project.tables.has(t));
  if (unknown.length) throw new Problem(404, 'not-found', `There is no table ${unknown.join(', ')}`);
  const building = [...chosen].filter((t) => project.tables.get(t)!.kind !== 'source');
  refuseErrors(project, building);
  const order = project.order.filter((t) => building.includes(t));
  const prints = fingerprints(project);
  const reused = (t: string) =>
    reusesProduction &&
    !startOver.includes(t) &&
    standings.get(t)?.where === 'production' &&
    standings.get(t)?.loaded?.fingerprint === prints.get(t);
  const missing = new Map<string, string>();
  for (const t of order) {
    if (reused(t)) continue;
    for (const input of project.needs.get(t) ?? []) {
      if (!building.includes(input) && !broughtIn.includes(input) && !standings.get(input)?.place)
        missing.set(input, t);
    }
  }
  if (missing.size) {
    const [first] = missing;
    const source = project.tables.get(first![0])?.kind === 'source';
    throw new Problem(
      409,
      'not-built',
      `${[...missing.keys()].join(', ')} ${missing.size === 1 ? 'is' : 'are'} not in the warehouse yet, and ${first![1]} reads it`,
      source ? 'Load it under Sources first.' : 'Run it too: choose “with what it needs”.',
    );
  }
  const steps: PlannedStep[] = order.map((t) => ({
    kind: 'load',
    name: t,
    waitsFor: (project.needs.get(t) ?? []).filter((r) => order.includes(r) || broughtIn.includes(r)),
    reused: reused(t) ?? false,
  }));
  const intakes = broughtIn.map((t): PlannedStep => ({ kind: 'intake', name: t, waitsFor: [], reused: false }));
  return withChecks(project, [...intakes, ...steps], standings, alsoChecks);
}

/** What is asked of checks alone: of these, or of these tables; of all that can be run where neither is named. */
export interface ChecksAsked {
  readonly checks: readonly string[];
  readonly tables: readonly string[];
}

/**
 * The steps of a run of checks alone: one a table, one a file of checks/. None waits for another.
 * @throws Problem for names that do not exist, checks that come with a load, tables that are nowhere, and errors in the files
 */
export function planChecks(
  project: Project,
  asked: ChecksAsked,
  standings: ReadonlyMap<string, Standing>,
): { steps: PlannedStep[]; checks: readonly string[] } {
  const all = checksOf(project);
  const known = new Map(all.map((c) => [c.id, c]));
  for (const [names, among, what] of [
    [asked.checks, known, 'check'],
    [asked.tables, project.tables, 'table'],
  ] as const) {
    const unknown = names.find((name) => !among.has(name));
    if (unknown === undefined) continue;
    throw new Problem(404, 'not-found', `There is no ${what} ${unknown}`, didYouMean(unknown, among.keys()));
  }
  const withLoad = asked.checks.find((id) => known.get(id)!.kind === 'policy');
  if (withLoad !== undefined)
    throw new Problem(
      422,
      'part-of-load',
      `${withLoad} is part of the load and cannot be run alone`,
      'Run the table: its load makes this check before it changes anything.',
    );
  const isNamed = asked.checks.length + asked.tables.length > 0;
  const tables = new Set(asked.tables);
  const chosen = isNamed
    ? all.filter((c) => asked.checks.includes(c.id) || tables.has(tableOfCheck(c)))
    : all.filter((c) => tablesOf(c).every((t) => standings.get(t)?.place));
  const running = chosen.filter((c) => c.kind !== 'policy');
  if (running.length === 0)
    throw new Problem(
      409,
      'nothing-to-run',
      `${isNamed ? (asked.tables[0] ?? asked.checks[0]!) : 'The project'} has no checks that can be run alone`,
      'Write constraints into a table’s contract, or a query into checks/.',
    );
  const missing = running.flatMap(tablesOf).find((t) => !standings.get(t)?.place);
  if (missing !== undefined)
    throw new Problem(
      409,
      'not-built',
      `${missing} is not built here yet`,
      'Run the table first: its checks run with it.',
    );
  const paths = new Set(running.map((c) => pathOf(project, c)));
  refuseErrorsIn(project, paths, 'the checks to run');
  const names = new Set(running.map((c) => (c.kind === 'query' ? c.id : c.table)));
  const steps = [...names].map((name): PlannedStep => ({ kind: 'check', name, waitsFor: [], reused: false }));
  return { steps, checks: running.map((c) => c.id) };
}

/** The tables that have to be there for a check. */
export function tablesOf(check: Check): readonly string[] {
  switch (check.kind) {
    case 'query':
      return check.reads;
    case 'references':
      return [check.table, check.references!.table];
    default:
      return [check.table];
  }
}

const pathOf = (project: Project, check: Check): string =>
  check.kind === 'query' ? project.checks.get(check.name)!.path : project.tables.get(check.table)!.path;

function refuseErrors(project: Project, tables: readonly string[]): void {
  const paths = new Set(
    tables.flatMap((t) => {
      const table = project.tables.get(t)!;
      return table.kind === 'reference' ? [table.path, table.csvPath] : [table.path];
    }),
  );
  for (const f of functionsOf(project, tables)) paths.add(f.path);
  refuseErrorsIn(project, paths, 'the definitions to run');
}

function refuseErrorsIn(project: Project, paths: ReadonlySet<string>, what: string): void {
  const errors = project.diagnostics.filter((d) => d.severity === 'error' && paths.has(d.path));
  if (errors.length === 0) return;
  throw new Problem(
    422,
    'project-errors',
    `${errors.length === 1 ? 'One error' : `${errors.length} errors`} in ${what}`,
    errors
      .slice(0, 5)
      .map((e) => `${e.path}: ${e.message}`)
      .join('; '),
    {
      diagnostics: errors.slice(0, 50).map((e) => ({ path: e.path, message: e.message, hint: e.hint })),
    },
  );
}

function withChecks(
  project: Project,
  loads: readonly PlannedStep[],
  standings: ReadonlyMap<string, Standing>,
  also: readonly string[],
): PlannedStep[] {
  const built = new Map(loads.map((s) => [s.name, s]));
  const readers = readersOf(project.needs);
  const blockedBy = new Map<string, string[]>();
  const checks: PlannedStep[] = [];
  for (const file of project.checks.values()) {
    const check = queryCheck(file);
    const there = check.reads.every((t) => built.has(t) || standings.get(t)?.place);
    const touched = check.reads.filter((t) => built.has(t) && !built.get(t)!.reused);
    if (!there || (touched.length === 0 && !also.includes(check.name))) continue;
    if (project.diagnostics.some((d) => d.severity === 'error' && d.path === file.path)) continue;
    checks.push({ kind: 'check', name: check.id, waitsFor: check.reads.filter((t) => built.has(t)), reused: false });
    if (check.about === undefined) continue;
    const needed = reachable(project.needs, check.reads);
    for (const t of reachable(readers, [check.about]).keys()) {
      if (t === check.about || needed.has(t)) continue;
      blockedBy.set(t, [...(blockedBy.get(t) ?? []), check.id]);
    }
  }
  return [...loads.map((s) => ({ ...s, waitsFor: [...s.waitsFor, ...(blockedBy.get(s.name) ?? [])] })), ...checks];
}
