import { notAConstraint } from './messages.js';
import { constraintNames } from '../../../language/tolerance.js';
import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';
import type { Definition, Contract } from '../../../model/project.js';
/** Options that name constraints which the contract does not have. */
export function namedConstraints(table: Definition, contract: Contract): Diagnostic[] {
  const names = contract.constraints.map((c) => c.name);
  return ['advisory', 'tolerate'].flatMap((option) => {
    const set = contract.options.get(option);
    return (set ? constraintNames(set.value) : [])
      .filter((name) => !names.includes(name))
      .map((name) =>
        errorAt(
          { path: table.path, range: set!.range },
          notAConstraint(option, name, { table: table.fullName, names }),
        ),
      );
  });
}
