import {
  analyze,
  sessionStatements,
  usedSettings,
  beforeStatements,
  beforeQuery,
  createReference,
  constraintStatements,
  afterStatements,
  commentStatements,
  grantStatements,
} from './statements.js';
import { targetPlace, stagedPlace } from './context.js';
import type { LoadPlan, PlanContext } from './context.js';
import { specOf } from '../../language/spec.js';
import { isView, keepsRows } from '../../language/policies.js';
import type { Definition, Project, ReferenceTable } from '../../model/project.js';
import { countStatement } from '../../check/checks.js';
import type { ConstraintCheck } from '../../check/constraint-checks.js';
import { compiledChecks } from '../../check/table-checks.js';
import { idents, literal, qualified } from '../../sql/quote.js';
import { stagedSchema, type Environment, type Place } from '../../model/place.js';
import { addDrift, addedToEvents, remembered, startingTable, type LoadBase } from './base.js';
import { compileText, type Names } from '../../compile/compile.js';
import { definitionQuery } from '../../keys/definition-query.js';
import { wrapped } from '../../sql/edits.js';
import { settingsOf, withEach } from '../../model/settings.js';
import { untypedDrift, withDrift } from '../../compile/drift.js';
import { keyMapsOf } from '../../keys/keys.js';
import { lateColumns } from './late-columns.js';
import { askedColumns } from '../../keys/look-ups-again.js';
import { keyProvenAnew } from '../merge/merge.js';
import { loadsInSteps, policySteps } from '../steps/load-steps.js';
import { policyContext, type PolicyContext } from '../policy/context.js';
import { AS_USUAL, IN_PARALLEL, type LoadStatement } from '../../compile/steps.js';
import { rehash, rehashFact } from './hashes.js';
import { rememberedPlace, storage, targetOf, type Target } from '../../compile/target.js';

/**
 * The plan of a definition or a reference table.
 * @throws Error for a definition that diagnostics refuse: plans are made of sound definitions only
 */
export function planLoad(context: PlanContext, table: Definition | ReferenceTable): LoadPlan {
  const { project, environment } = context;
  const target = targetPlace(environment, table);
  const staged = stagedPlace(environment, table);
  const placeOf = (name: string) => (isOwn(table, name) ? staged : context.placeOf(name));
  const settings = settingsFor(context, table);
  const makesView = table.kind === 'definition' && isView(table);
  const names: Names = {
    placeOf,
    functionsSchema: environment.schemaOf('functions'),
    ...(makesView ? { settings } : {}),
    ...(context.now === undefined ? {} : { now: context.now }),
  };
  const checks = compiledChecks(project, table, target, names);
  if (table.kind === 'definition' && loadsInSteps(table))
    return planSteps(context, withDrift(project, table, context.driftTypes));
  const base = {
    table: table.fullName,
    target,
    staged,
    swaps: true,
    checks,
    ...(checks.length ? { countSql: countStatement(checks, table.fullName, placeOf) } : {}),
  };
  const grants = grantStatements(environment, staged);
  const comments = commentStatements(table, staged, makesView ? 'view' : 'table');
  if (table.kind === 'reference') {
    return {
      ...base,
      relation: 'table',
      session: sessionStatements(new Map()),
      build: [{ kind: 'build', sql: createReference(table, staged) }],
      copySql: `copy ${qualified(staged)} (${idents(table.header)}) from stdin (format csv, header true)`,
      finish: [
        ...constraintStatements(checks, staged),
        ...afterStatements(context, table, names),
        analyze(staged),
        ...comments,
        ...grants,
      ],
    };
  }
  if (!table.query) throw new Error(`${table.fullName} has no query`);
  const asked = definitionQuery(project, table, names);
  // In FROM, PostgreSQL takes nothing that writes; a view and a query under casts are refused by it as they are.
  const query = makesView || table.contract ? asked : wrapped('select * from (\n', asked, '\n) as q');
  const head = makesView
    ? `create view ${qualified(staged)} as\n`
    : `create table ${qualified(staged)}${storage(table)} as\n`;
  const author = { path: table.path, original: (offset: number) => query.original(Math.max(0, offset - head.length)) };
  return {
    ...base,
    relation: makesView ? 'view' : 'table',
    session: [
      ...sessionStatements(makesView ? new Map() : usedSettings(table, settings)),
      ...(makesView ? [] : [{ kind: 'session' as const, sql: IN_PARALLEL }]),
      ...beforeStatements(project, table),
    ],
    build: [
      ...beforeQuery(table, names),
      { kind: 'build', sql: head + query.text, author },
      ...(makesView ? [] : [{ kind: 'session' as const, sql: AS_USUAL }]),
    ],
    finish: makesView
      ? [...comments, ...grants, ...afterStatements(context, table, names)]
      : [
          ...constraintStatements(checks, staged),
          ...afterStatements(context, table, names),
          analyze(staged),
          ...comments,
          ...grants,
        ],
  };
}

/** Whether a load may choose between changing a table in its place and writing it again. With drift = add, it may hold columns that only it still has. */
const mayBeRewritten = (table: Definition): boolean => {
  const spec = specOf(table);
  return 'shape' in spec && spec.shape !== 'in_place' && !spec.addsDrift;
};

/** Whether a name means the table itself, as its file calls it or as its row of a list is called. */
const isOwn = (table: Definition | ReferenceTable, name: string): boolean =>
  name === table.fullName || (table.kind === 'definition' && name === table.each?.declared);

/** Values of parameters, and of the table's row of its list. */
function settingsFor({ project, parameters }: PlanContext, table: Definition | ReferenceTable): Map<string, string> {
  const settings = settingsOf(project, parameters);
  return table.kind === 'definition' ? withEach(settings, table) : settings;
}

/** The plan of a table whose load keeps state or fills columns. */
function planSteps(context: PlanContext, table: Definition): LoadPlan {
  const { project, environment } = context;
  // A rebuilt table goes on from nothing but what is remembered beside it.
  const base: LoadBase =
    context.base?.kind === 'none' || keepsRows(table) ? (context.base ?? { kind: 'none' }) : { kind: 'none' };
  const target = targetPlace(environment, table);
  const own = base.kind === 'in place' ? target : stagedPlace(environment, table);
  const placeOf = (name: string) => (isOwn(table, name) ? own : context.placeOf(name));
  const names: Names = {
    placeOf,
    functionsSchema: environment.schemaOf('functions'),
    ...(context.now === undefined ? {} : { now: context.now }),
  };
  const query = compileText(project.files.get(table.path)!, table.query!, table.query!, names);
  const rewritten = base.kind === 'in place' && mayBeRewritten(table) ? stagedPlace(environment, table) : undefined;
  const policy = policyContext(
    project,
    table,
    { own, home: target, ...(rewritten ? { staged: rewritten } : {}), names },
    {
      writable: writableIn(context),
      corrects: context.corrects ?? false,
      ...(context.hashingOf ? { hashingOf: context.hashingOf } : {}),
      ...(base.kind === 'copy' ? { recut: { added: addedToEvents(table, base) } } : {}),
    },
  );
  const checks = compiledChecks(project, table, target, names);
  const settings = settingsFor(context, table);
  const finishOf = (place: Place, made?: ConstraintCheck): LoadStatement[] => [
    ...constraintStatements(
      checks.filter((c) => c.name !== made?.name),
      place,
    ),
    ...afterStatements(context, table, { ...names, placeOf: (name) => (isOwn(table, name) ? place : placeOf(name)) }),
    analyze(place),
    ...commentStatements(table, place, 'table'),
    ...grantStatements(environment, place),
  ];
  const finish = finishOf(own);
  return {
    table: table.fullName,
    target,
    staged: own,
    swaps: base.kind !== 'in place',
    relation: 'table',
    session: [
      ...sessionStatements(usedSettings(table, settings)),
      { kind: 'session', sql: `select set_config('load.time', ${timeOf(context)}, true)` },
      { kind: 'session', sql: `select set_config('load.run', ${literal(context.run ?? '')}, true)` },
      ...beforeStatements(project, table),
    ],
    build: [
      ...(base.kind === 'in place'
        ? addDrift(context.project, table, own)
        : [
            ...remembered(project, table, target, base),
            ...(!keepsRows(table) ? [] : [{ kind: 'build' as const, sql: startingTable(table, own, base) }]),
            ...(base.kind === 'copy' ? hashedAnew(project, policy.target, own, base) : []),
            ...(base.kind === 'copy' ? lateColumns(policy.target, keyMapsOf(policy.target, target), own, base) : []),
          ]),
      ...beforeQuery(table, names),
    ],
    steps: policySteps(policy, query, table.path, { first: base.kind === 'none' }),
    hashing: policy.target.hashing,
    checks,
    ...(checks.length ? { countSql: countStatement(checks, table.fullName, placeOf) } : {}),
    ...(base.kind === 'in place'
      ? {
          makes: [{ kind: 'build', sql: startingTable(table, own, { kind: 'none' }) }, ...finish],
        }
      : {}),
    ...(rewritten
      ? {
          rewritten: {
            staged: rewritten,
            finish: finishOf(
              rewritten,
              policy.spec.kind === 'merge' ? keyProvenAnew({ ...policy, spec: policy.spec }) : undefined,
            ),
            ...(checks.length
              ? {
                  countSql: countStatement(checks, table.fullName, (name) =>
                    name === table.fullName ? rewritten : placeOf(name),
                  ),
                }
              : {}),
          },
        }
      : {}),
    finish: base.kind === 'in place' ? [] : [...finish, ...stateGrants(policy, environment)],
  };
}

/** Hashes of rows that are copied, and of dimensions in them, as they are made today. */
function hashedAnew(
  project: Project,
  target: Target,
  own: Place,
  base: Extract<LoadBase, { readonly kind: 'copy' }>,
): LoadStatement[] {
  return [
    ...(base.isRehashed ? rehash(target, own) : []),
    ...(base.rehashed ?? []).map(({ column, dimension, ...former }) =>
      rehashFact(own, column, { dimension: targetOf(project, project.tables.get(dimension) as Definition), ...former }),
    ),
  ];
}

/** The time of a load as a text: the clock's, or the next instant after the last load's. */
function timeOf({ time, lastTime }: PlanContext): string {
  if (lastTime === undefined) return time === undefined ? 'now()::text' : literal(time);
  const clock = time === undefined ? 'now()' : `timestamptz ${literal(time)}`;
  return `greatest(${clock}, timestamptz ${literal(lastTime)} + interval '1 microsecond')::text`;
}

/** Dimensions of this environment may be given placeholders; those that are read from another one may not. */
function writableIn({ environment, placeOf }: PlanContext): PolicyContext['writable'] {
  return (dimension) => {
    const home = targetPlace(environment, dimension);
    const own = placeOf(dimension.fullName);
    return own.name === home.name && [home.schema, stagedSchema(home.schema)].includes(own.schema)
      ? { own, home }
      : undefined;
  };
}

/** Who may read the table may copy what is remembered beside it: a workspace begins so. */
function stateGrants(policy: PolicyContext, environment: Environment): LoadStatement[] {
  const { target, home } = policy;
  const places = [
    ...keyMapsOf(target, home).flatMap((m) => (m.method === 'sequence' ? [m.place, m.last] : [])),
    ...(target.spec.kind === 'events' ? [rememberedPlace(home, 'events')] : []),
    ...(target.isInferred ? [rememberedPlace(home, 'inferred')] : []),
    ...(askedColumns(target).length ? [rememberedPlace(home, 'asked')] : []),
  ];
  return places.flatMap((place) => grantStatements(environment, place));
}

/** What tells the types of drift columns that the project does not say: a query without rows, and what it runs under. */
export function driftProbe(
  context: PlanContext,
  table: Definition,
): { readonly session: readonly LoadStatement[]; readonly sql: string } | undefined {
  if (untypedDrift(context.project, table).length === 0) return undefined;
  const { environment, project, placeOf } = context;
  const query = compileText(project.files.get(table.path)!, table.query!, table.query!, {
    placeOf,
    functionsSchema: environment.schemaOf('functions'),
  });
  return {
    session: sessionStatements(usedSettings(table, settingsFor(context, table))),
    sql: `select * from (\n${query.text}\n) as q limit 0`,
  };
}
