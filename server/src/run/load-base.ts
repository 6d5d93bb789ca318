import {
  REMEMBERED,
  rememberedPlace,
  formerRememberedPlace,
  NEWEST_HASHING,
  targetOf,
  type Hashing,
} from '@ouvrage/core/compile';
import { fingerprints } from '@ouvrage/core/graph';
import { keepsRows, specOf, columnWith } from '@ouvrage/core/language';
import {
  type RememberedTable,
  driftProbe,
  planLoad,
  type LoadPlan,
  type PlanContext,
  rehashedColumns,
  targetPlace,
  type LoadBase,
  type OldRelation,
} from '@ouvrage/core/load';
import type { ReferenceTable, Definition, Environment, Place, Project } from '@ouvrage/core/model';
import { otherMeaning, formerName, wrongFormerNames } from '@ouvrage/core/review';
import { ident, qualified, shortType } from '@ouvrage/core/sql';
import { Problem } from '../shared/problem.js';
import type { Loader } from '../load/loader.js';
import type { Loaded } from '../warehouse/loaded.js';

/** Where a load that keeps state may find what it goes on from. */
export interface BaseSurroundings {
  readonly project: Project;
  readonly environment: Environment;
  /** What the environment holds. */
  readonly here: ReadonlyMap<string, Loaded>;
  /** Production's project and what it holds: a workspace goes on from a copy of it. */
  readonly released: {
    readonly project: Project;
    readonly environment: Environment;
    readonly loaded: ReadonlyMap<string, Loaded>;
  };
  /** Everything is built beside, as a release does. */
  readonly staged: boolean;
}

/**
 * What a table's load goes on from: the table in its place where nothing of its definition changed,
 * else a copy of production's rows in the form of the contract, else nothing.
 * @throws Problem where production's rows cannot be gone on from
 */
async function baseOf(loader: Loader, table: Definition, around: BaseSurroundings): Promise<LoadBase> {
  if (!keepsRows(table)) return { kind: 'none' };
  const { project, environment, here, released } = around;
  const own = targetPlace(environment, table);
  const print = fingerprints(project).get(table.fullName);
  if (!around.staged && here.get(table.fullName)?.fingerprint === print) {
    const [relation] = await loader.swaps.oldRelations([own]);
    if (relation?.relkind === 'r' && sameShape(relation, table)) return { kind: 'in place' };
  }
  const before = released.project.tables.get(formerOf(table, around) ?? table.fullName);
  if (!before || !released.loaded.has(before.fullName) || before.kind !== 'definition' || !keepsRows(before))
    return { kind: 'none' };
  const from = targetPlace(released.environment, before);
  const found = await loader.swaps.oldRelations([from, ...REMEMBERED.map((what) => rememberedPlace(from, what))]);
  const there = (place: Place) => found.find((r) => r.schema === place.schema && r.name === place.name);
  const relation = there(from);
  if (relation?.relkind !== 'r') return { kind: 'none' };
  refuseOtherMeaning(before, table);
  return {
    kind: 'copy',
    from,
    columns: relation.columns.map((c) => c.name),
    ...(specOf(table).addsDrift ? { extras: relation.columns } : {}),
    remembers: rememberedIn(found, from),
  };
}

/** Whether a table has the contract's columns; where drift adds columns, it may have more. */
function sameShape(relation: OldRelation, table: Definition): boolean {
  const columns = table.contract!.columns.map((c) => `${c.name} ${c.type}`);
  const there = relation.columns.map((c) => `${c.name} ${shortType(c.type)}`);
  return JSON.stringify(specOf(table).addsDrift ? there.slice(0, columns.length) : there) === JSON.stringify(columns);
}

/**
 * The plan of one load, with what it goes on from.
 * @param startOver true to go on from nothing
 */
export async function planFrom(
  loader: Loader,
  context: Planning,
  table: Definition | ReferenceTable,
  { startOver = false, ...around }: BaseSurroundings & { readonly startOver?: boolean },
): Promise<LoadPlan> {
  if (table.kind === 'reference') return planLoad(context, table);
  const [wrong] = startOver
    ? []
    : wrongFormerNames(around.released.project, context.project).filter((w) => w.table === table.fullName);
  if (wrong) throw new Problem(422, 'wrong-former-name', `${wrong.table}: ${wrong.message}`, wrong.hint);
  await nameAsToday(loader, targetPlace(context.environment, table));
  const found: LoadBase = startOver ? { kind: 'none' } : await baseOf(loader, table, around);
  const base: LoadBase = found.kind === 'none' ? { ...found, ...(await stagedBase(loader, table, around)) } : found;
  const probe = driftProbe(context, table);
  const from = base.kind === 'copy' ? base.from : base.kind === 'none' ? base.formerly : undefined;
  const formerly =
    from && around.staged && from.name !== targetPlace(context.environment, table).name ? { formerly: from } : {};
  const hashingOf = hashingIn(context, table, around);
  const whole = {
    ...context,
    hashingOf,
    base: base.kind === 'copy' ? await withRehashed(loader, { ...context, hashingOf }, table, around, base) : base,
  };
  if (!probe) return { ...planLoad(whole, table), ...formerly };
  for (const statement of probe.session) await loader.run(statement);
  return { ...planLoad({ ...whole, driftTypes: await loader.typesOf(probe.sql) }, table), ...formerly };
}

type Planning = Omit<PlanContext, 'base' | 'driftTypes'>;

const recorded = (loaded: Loaded | undefined): Hashing => loaded?.hashing ?? 'as text';

/** How values of tables become hashes: as today in what is remade by a release or for the first time, else as they were. */
function hashingIn(
  { placeOf, environment }: Planning,
  table: Definition,
  { here, released, staged }: BaseSurroundings,
): (name: string) => Hashing {
  return (name) => {
    if (name === table.fullName) return staged || !here.has(name) ? NEWEST_HASHING : recorded(here.get(name));
    const place = placeOf(name);
    // What this release has built is beside.
    if (staged && place.schema !== environment.schemaOf(name.slice(0, name.indexOf('.')))) return NEWEST_HASHING;
    if (here.has(name)) return recorded(here.get(name));
    return released.loaded.has(name) && place.schema === released.environment.schemaOf(name.slice(0, name.indexOf('.')))
      ? recorded(released.loaded.get(name))
      : NEWEST_HASHING;
  };
}

/** What is copied of a table whose hashes, or those of its dimensions, were made as text and are made as today from now on. */
async function withRehashed(
  loader: Loader,
  { hashingOf, project, placeOf }: Planning & { readonly hashingOf: (name: string) => Hashing },
  table: Definition,
  around: BaseSurroundings,
  base: Extract<LoadBase, { kind: 'copy' }>,
): Promise<LoadBase> {
  const { released } = around;
  const wasText = (t: Definition) => recorded(released.loaded.get(formerOf(t, around) ?? t.fullName)) === 'as text';
  const rehashed: NonNullable<typeof base.rehashed>[number][] = [];
  for (const { column, dimension } of targetOf(project, table).lookUps) {
    const key = dimension.contract && columnWith(dimension.contract, 'surrogate key');
    const before = released.project.tables.get(formerOf(dimension, around) ?? dimension.fullName);
    if (!before || key === undefined || hashingOf(dimension.fullName) === 'as text' || !wasText(dimension)) continue;
    const from = targetPlace(released.environment, before);
    if (
      qualified(from) === qualified(placeOf(dimension.fullName)) ||
      !rehashedColumns(targetOf(project, dimension)).includes(key)
    )
      continue;
    const [there] = await loader.swaps.oldRelations([from]);
    if (there)
      rehashed.push({
        column: column.name,
        dimension: dimension.fullName,
        from,
        columns: there.columns.map((c) => c.name),
      });
  }
  return { ...base, isRehashed: hashingOf(table.fullName) === NEWEST_HASHING && wasText(table), rehashed };
}

/** What is beside a table with a long name may still bear the name that it had before such names were distinguished. */
async function nameAsToday(loader: Loader, home: Place): Promise<void> {
  const pairs = REMEMBERED.flatMap((what) => {
    const former = formerRememberedPlace(home, what);
    return former ? [{ former, today: rememberedPlace(home, what) }] : [];
  });
  if (pairs.length === 0) return;
  const found = await loader.swaps.oldRelations(pairs.flatMap((p) => [p.former, p.today]));
  const isThere = (place: Place) => found.some((r) => r.schema === place.schema && r.name === place.name);
  for (const { former, today } of pairs)
    if (isThere(former) && !isThere(today))
      await loader.run({ kind: 'build', sql: `alter table ${qualified(former)} rename to ${ident(today.name)}` });
}

/** What is remembered beside a table that goes on from nothing, under the name that it had. */
async function stagedBase(
  loader: Loader,
  table: Definition,
  around: BaseSurroundings,
): Promise<Pick<Extract<LoadBase, { kind: 'none' }>, 'there' | 'formerly'>> {
  if (!table.contract) return {};
  const home = targetPlace(around.environment, table);
  const before = around.staged
    ? around.released.project.tables.get(formerOf(table, around) ?? table.fullName)
    : undefined;
  const from = before && before.fullName !== table.fullName ? targetPlace(around.environment, before) : home;
  const there = rememberedIn(
    await loader.swaps.oldRelations(REMEMBERED.map((what) => rememberedPlace(from, what))),
    from,
  );
  return { there, ...(from === home ? {} : { formerly: from }) };
}

/** The name that a table has in production, where it bears another one now. */
function formerOf(table: Definition, { project, released }: BaseSurroundings): string | undefined {
  const former = formerName(table);
  return former !== undefined && !released.project.tables.has(table.fullName) && !project.tables.has(former)
    ? former
    : undefined;
}

/** What of some relations is remembered beside a table. */
const rememberedIn = (relations: readonly OldRelation[], home: Place): RememberedTable[] =>
  REMEMBERED.flatMap((what) => {
    const place = rememberedPlace(home, what);
    const found = relations.find((r) => r.name === place.name && r.schema === place.schema);
    return found ? [{ what, columns: found.columns }] : [];
  });

function refuseOtherMeaning(before: Definition, after: Definition): void {
  const other = otherMeaning(before, after);
  if (other === undefined) return;
  throw new Problem(
    409,
    'cannot-go-on',
    `${after.fullName} cannot go on from production’s rows: ${other}`,
    'Start it over, rename the table, or change the option back.',
  );
}
