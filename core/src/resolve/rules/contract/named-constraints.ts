import { columnProblem } from './column-problem.js';
import { didYouMean } from '../../../sql/nearest.js';
import { constraintNames } from '../../../language/tolerance.js';
import type { Diagnostic } from '../../../model/diagnostic.js';
import type { Definition, Contract } from '../../../model/project.js';
/** Options that name constraints which the contract does not have. */
export function namedConstraints(table: Definition, contract: Contract): Diagnostic[] {
  const names = contract.constraints.map((c) => c.name);
  return ['advisory', 'tolerate'].flatMap((option) => {
    const set = contract.options.get(option);
    return (set ? constraintNames(set.value) : [])
      .filter((name) => !names.includes(name))
      .map((name) => {
        const hint = didYouMean(name, names) ?? `its constraints are ${names.join(', ')}`;
        return columnProblem(
          { path: table.path, range: set!.range },
          `option ${option} names ${name}, which is not a constraint of ${table.fullName}`,
          hint,
        );
      });
  });
}
