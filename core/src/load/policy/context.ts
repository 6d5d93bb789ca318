import { compileCondition } from '../../compile/compile.js';
import { specOf, type LoadSpec } from '../../language/spec.js';
import { targetOf } from '../../compile/target.js';
import { NEWEST_HASHING } from '../../compile/hashing.js';
import type { KeyContext } from '../../keys/context.js';
import type { Place } from '../../model/place.js';
import type { Project, Definition } from '../../model/project.js';
/** What the steps of a load are made for. */
export interface PolicyContext<Spec extends LoadSpec = LoadSpec> extends KeyContext {
  /** How the table is loaded. */
  readonly spec: Spec;
  /** Of a table that is changed in its place: where it may be remade instead. */
  readonly staged?: Place;
  /** Of a history by state: changes correct open versions. */
  readonly corrects: boolean;
  /** Of a history from events that goes on from a copy: all keys are cut again by the contract as it is now, and these columns of events are new. */
  readonly recut?: { readonly added: readonly string[] };
  /** A condition over `q` and `t` as it is written, compiled. */
  readonly condition: (text: string | undefined) => string | undefined;
}

export function policyContext(
  project: Project,
  table: Definition,
  places: Pick<PolicyContext, 'own' | 'home' | 'staged' | 'names'>,
  {
    writable = () => undefined,
    corrects = false,
    recut,
    hashingOf = () => NEWEST_HASHING,
  }: Partial<Pick<PolicyContext, 'writable' | 'corrects' | 'recut' | 'hashingOf'>> = {},
): PolicyContext {
  return {
    project,
    target: targetOf(project, table, hashingOf(table.fullName)),
    hashingOf,
    ...places,
    writable,
    spec: specOf(table),
    corrects,
    ...(recut ? { recut } : {}),
    condition: (text) => (text === undefined ? undefined : compileCondition(text, places.names)),
  };
}
