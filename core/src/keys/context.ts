import type { Names } from '../compile/compile.js';
import type { Hashing } from '../compile/hashing.js';
import type { Target } from '../compile/target.js';
import type { Place } from '../model/place.js';
import type { Definition, Project } from '../model/project.js';

/** What keys are numbered, looked up and inferred for: one load of one table. */
export interface KeyContext {
  readonly project: Project;
  readonly target: Target;
  /** The table that is changed. */
  readonly own: Place;
  /** The table's final place: its key map and its remembered events stand beside that. */
  readonly home: Place;
  readonly names: Names;
  /** Where a dimension is, if placeholders may be made in it: not in one that is only read. */
  readonly writable: (dimension: Definition) => { readonly own: Place; readonly home: Place } | undefined;
  /** How the values of a table become hashes. */
  readonly hashingOf: (table: string) => Hashing;
}
