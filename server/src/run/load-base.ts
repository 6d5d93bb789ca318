import {
  type RememberedTable,
  otherMeaning,
  driftProbe,
  planLoad,
  type LoadPlan,
  formerName,
  wrongFormerNames,
  type PlanContext,
  type ReferenceTable,
  fingerprints,
  REMEMBERED,
  rememberedPlace,
  optionOf,
  shortType,
  STATEFUL,
  targetPlace,
  type Definition,
  type Environment,
  type LoadBase,
  type OldRelation,
  type Place,
  type Project,
} from '@ouvrage/core';
import { Problem } from '../shared/problem.js';
import type { Loader } from '../warehouse/loader.js';
import type { Loaded } from '../warehouse/warehouse.service.js';

/** Where a load that keeps state may find what it goes on from. */
export interface BaseSurroundings {
  readonly project: Project;
  readonly environment: Environment;
  /** What the environment holds. */
  readonly here: ReadonlyMap<string, Loaded>;
  /** Production's project and what it holds: a workspace goes on from a copy of it. */
  readonly released: { readonly project: Project; readonly environment: Environment; readonly loaded: ReadonlyMap<string, Loaded> };
  /** Everything is built beside, as a release does. */
  readonly beside: boolean;
}

/**
 * What a table's load goes on from: the table in its place where nothing of its definition changed,
 * else a copy of production's rows in the form of the contract, else nothing.
 * @throws Problem where production's rows cannot be gone on from
 */
async function baseOf(loader: Loader, table: Definition, around: BaseSurroundings): Promise<LoadBase> {
  if (!STATEFUL.has(table.policy)) return { kind: 'none' };
  const { project, environment, here, released } = around;
  const own = targetPlace(environment, table);
  const print = fingerprints(project).get(table.fullName);
  if (!around.beside && here.get(table.fullName)?.fingerprint === print) {
    const [relation] = await loader.swaps.oldRelations([own]);
    if (relation?.relkind === 'r' && sameShape(relation, table)) return { kind: 'in place' };
  }
  const former = formerName(table);
  const isRenamed = !released.project.tables.has(table.fullName) && former !== undefined && !project.tables.has(former);
  const before = released.project.tables.get(isRenamed ? former : table.fullName);
  if (!before || !released.loaded.has(before.fullName) || before.kind !== 'definition' || !STATEFUL.has(before.policy)) return { kind: 'none' };
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
    ...(optionOf(table, 'drift') === 'add' ? { extras: relation.columns } : {}),
    remembers: rememberedIn(found, from),
  };
}

/** Whether a table has the contract's columns; where drift adds columns, it may have more. */
function sameShape(relation: OldRelation, table: Definition): boolean {
  const columns = table.contract!.columns.map((c) => `${c.name} ${c.type}`);
  const there = relation.columns.map((c) => `${c.name} ${shortType(c.type)}`);
  return JSON.stringify(optionOf(table, 'drift') === 'add' ? there.slice(0, columns.length) : there) === JSON.stringify(columns);
}

/**
 * The plan of one load, with what it goes on from.
 * @param startOver true to go on from nothing
 */
export async function planFrom(
  loader: Loader,
  context: Omit<PlanContext, 'base' | 'driftTypes'>,
  table: Definition | ReferenceTable,
  around: BaseSurroundings,
  startOver = false,
): Promise<LoadPlan> {
  if (table.kind === 'reference') return planLoad(context, table);
  const [wrong] = wrongFormerNames(around.released.project, context.project).filter((w) => w.table === table.fullName);
  if (wrong) throw new Problem(422, 'wrong-former-name', `${wrong.table}: ${wrong.message}`, wrong.hint);
  const found: LoadBase = startOver ? { kind: 'none' } : await baseOf(loader, table, around);
  const base: LoadBase = found.kind === 'none' ? { ...found, there: await besideOf(loader, table, around) } : found;
  const probe = driftProbe(context, table);
  const formerly = base.kind === 'copy' && around.beside && base.from.name !== targetPlace(context.environment, table).name ? { formerly: base.from } : {};
  if (!probe) return { ...planLoad({ ...context, base }, table), ...formerly };
  for (const statement of probe.session) await loader.run(statement);
  return { ...planLoad({ ...context, base, driftTypes: await loader.typesOf(probe.sql) }, table), ...formerly };
}

/** What is remembered beside a table that goes on from nothing. */
async function besideOf(loader: Loader, table: Definition, { environment }: BaseSurroundings): Promise<RememberedTable[]> {
  if (!table.contract) return [];
  const home = targetPlace(environment, table);
  return rememberedIn(await loader.swaps.oldRelations(REMEMBERED.map((what) => rememberedPlace(home, what))), home);
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
    'Start it over, give the table another name, or change the option back.',
  );
}
