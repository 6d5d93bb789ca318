import { specOf } from '../../language/spec.js';
import { isView, keepsRows } from '../../language/policies.js';
import type { Definition, Project, ReferenceTable, Table } from '../../model/project.js';
import { countStatement } from '../../check/checks.js';
import { constraintChecks, type ConstraintCheck } from '../../check/constraint-checks.js';
import { schemaNameOf } from '../../resolve/fan-out.js';
import { ident, idents, literal, qualified } from '../../sql/quote.js';
import { besideSchema, type Environment, type Place } from '../../model/place.js';
import { constraintStatement } from '../../check/constraint-statement.js';
import { addDrift, addedToEvents, remembered, startingTable, type LoadBase } from './base.js';
import { beforeStatementsOf, localSet } from '../../compile/before.js';
import { compileCondition, compileText, type Names } from '../../compile/compile.js';
import { definitionQuery } from '../../keys/definition-query.js';
import { namesFunctions } from '../../index/condition.js';
import { wrapped } from '../../sql/edits.js';
import { settingsOf, withEach } from '../../model/settings.js';
import { untypedDrift, withDrift } from '../../compile/drift.js';
import { keyMapsOf } from '../../keys/keys.js';
import { lateColumns } from './late-columns.js';
import { askedColumns } from '../../keys/look-ups-again.js';
import { keyProvenAnew } from '../merge/merge.js';
import { loadsInSteps, policySteps } from '../steps/load-steps.js';
import { policyContext, type PolicyContext } from '../policy/context.js';
import { AS_USUAL, IN_PARALLEL, type LoadStep, type LoadStatement } from '../../compile/steps.js';
import { rehash, rehashFact } from './hashes.js';
import type { Hashing } from '../../compile/hashing.js';
import { rememberedPlace, storage, targetOf, type Target } from '../../compile/target.js';

/**
 * How one table is brought up to date, all in one transaction: it is made beside the old one under
 * the same name in another schema, so that its constraints and indexes have their final names,
 * checked there, and moved into place. Nothing of it shows before the commit.
 */
export interface LoadPlan {
  readonly table: string;
  readonly relation: 'table' | 'view';
  readonly target: Place;
  readonly beside: Place;
  /** Where it stood under its former name. */
  readonly formerly?: Place | undefined;
  /** Session settings and parameters. */
  readonly session: readonly LoadStatement[];
  /** Makes and fills the table. Reference tables are filled by COPY after `build`. */
  readonly build: readonly LoadStatement[];
  /** Of a load that keeps state, or fills columns: after `build`, before the checks. */
  readonly steps?: readonly LoadStep[];
  /** Of a table that is changed in its place: what makes it, empty, where it is not there yet. */
  readonly makes?: readonly LoadStatement[];
  /** False where the table is changed in its place: then `beside` is that place, and nothing is moved. */
  readonly swaps: boolean;
  /** Of a table that is changed in its place, but may be made anew: what then stands instead. */
  readonly anew?: Pick<LoadPlan, 'beside' | 'countSql' | 'finish'>;
  readonly checks: readonly ConstraintCheck[];
  /** Counts the rows at fault of all `checks`; undefined without checks. */
  readonly countSql?: string;
  /** Constraints, indexes, comments, grants: after the checks, before the swap. */
  readonly finish: readonly LoadStatement[];
  /** How its values become hashes, where a load may fill some. */
  readonly hashing?: Hashing;
  /** The statement that a COPY of the CSV's text goes through. */
  readonly copySql?: string;
}

/** What a plan is made for. */
export interface PlanContext {
  readonly project: Project;
  readonly environment: Environment;
  /** Where other tables are read. */
  readonly placeOf: (table: string) => Place;
  /** Values of parameters for this run; the rest have their defaults. */
  readonly parameters?: ReadonlyMap<string, string>;
  /** Of a load that keeps state: what it goes on from. */
  readonly base?: LoadBase;
  /** The load's time, ISO 8601; the transaction's where it is not given. */
  readonly time?: string;
  /** The time of the table's last load, ISO 8601 with microseconds: this one's is later, whatever the clock says. */
  readonly lastTime?: string;
  /** Of a history by state: what changed corrects open versions, and makes no new ones. */
  readonly corrects?: boolean;
  /** Types of columns that drift adds, where the project does not say them. */
  readonly driftTypes?: ReadonlyMap<string, string>;
  /** How the values of a table become hashes; as is done today, where it is not given. */
  readonly hashingOf?: (table: string) => Hashing;
  /** The run that loads, for columns that say it. */
  readonly run?: string;
}

type PlacedTable = Pick<Table, 'layer' | 'name'> & Pick<Definition, 'each'>;

/** The place of a table in an environment. */
export function targetPlace(environment: Environment, table: PlacedTable): Place {
  return { schema: environment.schemaOf(schemaNameOf(table)), name: table.name };
}

/** Where a table is made before it is swapped in. */
export function besidePlace(environment: Environment, table: PlacedTable): Place {
  return { schema: besideSchema(environment.schemaOf(schemaNameOf(table))), name: table.name };
}

/**
 * The plan of a definition or a reference table.
 * @throws Error for a definition that diagnostics refuse: plans are made of sound definitions only
 */
export function planLoad(context: PlanContext, table: Definition | ReferenceTable): LoadPlan {
  const { project, environment } = context;
  const target = targetPlace(environment, table);
  const beside = besidePlace(environment, table);
  const placeOf = (name: string) => (isOwn(table, name) ? beside : context.placeOf(name));
  const settings = settingsFor(context, table);
  const makesView = table.kind === 'definition' && isView(table);
  const names: Names = {
    placeOf,
    functionsSchema: environment.schemaOf('functions'),
    ...(makesView ? { settings } : {}),
  };
  const checks = compiledChecks(project, table, target, names);
  if (table.kind === 'definition' && loadsInSteps(table))
    return planSteps(context, withDrift(project, table, context.driftTypes));
  const base = {
    table: table.fullName,
    target,
    beside,
    swaps: true,
    checks,
    ...(checks.length ? { countSql: countStatement(checks, table.fullName, placeOf) } : {}),
  };
  const grants = grantStatements(environment, beside);
  const comments = commentStatements(table, beside, makesView ? 'view' : 'table');
  if (table.kind === 'reference') {
    return {
      ...base,
      relation: 'table',
      session: sessionStatements(new Map()),
      build: [{ kind: 'build', sql: createReference(table, beside) }],
      copySql: `copy ${qualified(beside)} (${idents(table.header)}) from stdin (format csv, header true)`,
      finish: [
        ...constraintStatements(checks, beside),
        ...afterStatements(context, table, names),
        analyze(beside),
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
    ? `create view ${qualified(beside)} as\n`
    : `create table ${qualified(beside)}${storage(table)} as\n`;
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
          ...constraintStatements(checks, beside),
          ...afterStatements(context, table, names),
          analyze(beside),
          ...comments,
          ...grants,
        ],
  };
}

/** Whether a load may choose between changing a table in its place and writing it anew. With drift = add, it may hold columns that only it still has. */
const mayBeWrittenAnew = (table: Definition): boolean => {
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
  const own = base.kind === 'in place' ? target : besidePlace(environment, table);
  const placeOf = (name: string) => (isOwn(table, name) ? own : context.placeOf(name));
  const names: Names = { placeOf, functionsSchema: environment.schemaOf('functions') };
  const query = compileText(project.files.get(table.path)!, table.query!, table.query!, names);
  const anew = base.kind === 'in place' && mayBeWrittenAnew(table) ? besidePlace(environment, table) : undefined;
  const policy = policyContext(
    project,
    table,
    { own, home: target, ...(anew ? { beside: anew } : {}), names },
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
    beside: own,
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
    ...(anew
      ? {
          anew: {
            beside: anew,
            finish: finishOf(
              anew,
              policy.spec.kind === 'merge' ? keyProvenAnew({ ...policy, spec: policy.spec }) : undefined,
            ),
            ...(checks.length
              ? {
                  countSql: countStatement(checks, table.fullName, (name) =>
                    name === table.fullName ? anew : placeOf(name),
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

/** The checks of a table's contract, with the project's functions in their conditions replaced. */
function compiledChecks(project: Project, table: Table, target: Place, names: Names): ConstraintCheck[] {
  return constraintChecks(project, table, target).map((c) =>
    c.expression !== undefined && namesFunctions(c.expression)
      ? { ...c, expression: compileCondition(c.expression, names) }
      : c,
  );
}

/** Dimensions of this environment may be given placeholders; those that are read from another one may not. */
function writableIn({ environment, placeOf }: PlanContext): PolicyContext['writable'] {
  return (dimension) => {
    const home = targetPlace(environment, dimension);
    const own = placeOf(dimension.fullName);
    return own.name === home.name && [home.schema, besideSchema(home.schema)].includes(own.schema)
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

export const analyze = (place: Place): LoadStatement => ({ kind: 'analyze', sql: `analyze ${qualified(place)}` });

/** The settings that every statement of the warehouse runs under. */
export const SESSION_SETTINGS: readonly string[] = [
  "set local timezone = 'UTC'",
  'set local search_path = pg_catalog, extensions',
];

function sessionStatements(settings: ReadonlyMap<string, string>): LoadStatement[] {
  return [
    ...SESSION_SETTINGS.map((sql): LoadStatement => ({ kind: 'session', sql })),
    ...[...settings].map(([name, value]): LoadStatement => ({
      kind: 'session',
      sql: `select set_config(${literal(name)}, ${literal(value)}, true)`,
    })),
  ];
}

function usedSettings(table: Definition, settings: ReadonlyMap<string, string>): Map<string, string> {
  const used = new Set(table.query?.settings.map((s) => s.setting));
  const options = [...(table.contract?.options.values() ?? [])].map((o) => o.value).join('\n');
  return new Map([...settings].filter(([name]) => used.has(name) || options.includes(name)));
}

/** What `set` before the contract says. */
function beforeStatements(project: Project, table: Definition): LoadStatement[] {
  const { text } = project.files.get(table.path)!;
  return table.before.map((s) => ({
    kind: 'session',
    sql: localSet(text.slice(s.start, s.end)),
    author: { path: table.path, original: () => s.start },
  }));
}

/** The option `before`: in the load's transaction, before the query, when the table is there to be changed. */
function beforeQuery(table: Definition, names: Names): LoadStatement[] {
  const option = table.contract?.options.get('before');
  if (!option) return [];
  const author = { path: table.path, original: () => option.range.start };
  return beforeStatementsOf(option.value, names).map((sql): LoadStatement => ({ kind: 'before', sql, author }));
}

/** Columns of the contract, or of the header as text; the order is the contract's. */
function createReference(table: ReferenceTable, place: Place): string {
  const columns = table.contract?.columns ?? table.header.map((name) => ({ name, type: 'text' }));
  return `create table ${qualified(place)} (\n  ${columns.map((c) => `${ident(c.name)} ${c.type}`).join(',\n  ')}\n)`;
}

function constraintStatements(checks: readonly ConstraintCheck[], place: Place): LoadStatement[] {
  const sql = constraintStatement(checks, place);
  return sql === undefined ? [] : [{ kind: 'constraint', sql }];
}

/** Indexes and analyze as written; grants only in production, where the granted roles are meant. */
function afterStatements(context: PlanContext, table: Table, names: Names): LoadStatement[] {
  const own: Table | undefined = context.project.tables.get(table.fullName);
  const after = own?.kind === 'definition' ? own.after : [];
  const file = context.project.files.get(table.path);
  if (!file) return [];
  return after
    .filter((s) => s.kind !== 'grant' || context.environment.kind === 'production')
    .map((s) => {
      const compiled = compileText(file, s, { tables: s.tables, functions: [], settings: [] }, names);
      return { kind: s.kind, sql: compiled.text, author: { path: table.path, original: compiled.original } };
    });
}

function commentStatements(
  table: Definition | ReferenceTable,
  place: Place,
  relation: 'table' | 'view',
): LoadStatement[] {
  const statements: LoadStatement[] = [];
  if (table.comment !== undefined)
    statements.push({
      kind: 'comment',
      sql: `comment on ${relation} ${qualified(place)} is ${literal(table.comment)}`,
    });
  const columns =
    table.kind === 'definition'
      ? table.columnComments
      : new Map(
          table.contract?.columns.flatMap((c) => (c.comment === undefined ? [] : [[c.name, c.comment] as const])),
        );
  for (const [column, comment] of columns) {
    statements.push({
      kind: 'comment',
      sql: `comment on column ${qualified(place)}.${ident(column)} is ${literal(comment)}`,
    });
  }
  return statements;
}

export function grantStatements(environment: Environment, place: Place): LoadStatement[] {
  if (environment.readers.length === 0) return [];
  return [{ kind: 'grant', sql: `grant select on ${qualified(place)} to ${idents(environment.readers)}` }];
}
