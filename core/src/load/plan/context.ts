import { stagedSchema } from '../../model/place.js';
import { schemaNameOf } from '../../resolve/fan-out.js';
import type { LoadBase } from './base.js';
import type { Project, Table, Definition } from '../../model/project.js';
import type { Hashing } from '../../compile/hashing.js';
import type { ConstraintCheck } from '../../check/constraint-checks.js';
import type { LoadStatement, LoadStep } from '../../compile/steps.js';
import type { Place, Environment } from '../../model/place.js';
/**
 * How one table is brought up to date, all in one transaction: it is made beside the old one under
 * the same name in another schema, so that its constraints and indexes have their final names,
 * checked there, and moved into place. Nothing of it shows before the commit.
 */
export interface LoadPlan {
  readonly table: string;
  readonly relation: 'table' | 'view';
  readonly target: Place;
  readonly staged: Place;
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
  /** Of a table that is changed in its place, but may be remade: what then stands instead. */
  readonly rewritten?: Pick<LoadPlan, 'staged' | 'countSql' | 'finish'>;
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
  /** The time that the query is given where it asks for it, ISO 8601; the transaction's where it is not given. */
  readonly now?: string;
  /** The run that loads, for columns that say it. */
  readonly run?: string;
}

type PlacedTable = Pick<Table, 'layer' | 'name'> & Pick<Definition, 'each'>;

/** The place of a table in an environment. */
export function targetPlace(environment: Environment, table: PlacedTable): Place {
  return { schema: environment.schemaOf(schemaNameOf(table)), name: table.name };
}

/** Where a table is made before it is swapped in. */
export function stagedPlace(environment: Environment, table: PlacedTable): Place {
  return { schema: stagedSchema(environment.schemaOf(schemaNameOf(table))), name: table.name };
}
