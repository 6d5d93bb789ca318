import { constraintRange } from '../../../index/contract.js';
import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';
import { cycle as cycleOf, moreOfCycle } from '../../messages.js';
import type { IndexedFile, Table } from '../../../model/project.js';
import type { Range } from '../../../sql/positions.js';

/** Members of a cycle up to which each is reported, with the whole way round; of a larger one, one is. */
const LARGEST_CYCLE_TOLD = 12;

/** Tables that read each other in a circle. @param cycle its members in order, the first again at the end */
export function cycleDiagnostics(
  cycle: readonly string[],
  tables: ReadonlyMap<string, Table>,
  files: ReadonlyMap<string, IndexedFile>,
): Diagnostic[] {
  const isLarge = cycle.length - 1 > LARGEST_CYCLE_TOLD;
  return cycle.slice(0, isLarge ? 2 : cycle.length - 1).map((name, i) => {
    const table = tables.get(name)!;
    const from = [...cycle.slice(i, -1), ...cycle.slice(0, i), name];
    const way = isLarge
      ? [...from.slice(0, LARGEST_CYCLE_TOLD), moreOfCycle(cycle.length - 1), from.at(-2)!, from.at(-1)!]
      : from;
    const range = mentionOf(table, cycle[i + 1]!, files) ?? table.nameRange;
    return errorAt({ path: table.path, range }, cycleOf(table.fullName, cycle.slice(0, -1), way));
  });
}

/** Where a table names another one: in its query, or in a constraint. */
function mentionOf(table: Table, other: string, files: ReadonlyMap<string, IndexedFile>): Range | undefined {
  const inQuery =
    table.kind === 'definition' ? table.query?.tables.find((t) => `${t.layer ?? ''}.${t.name}` === other) : undefined;
  if (inQuery) return inQuery;
  const constraint = table.contract?.constraints.find((c) => c.references?.table === other);
  return constraint && constraintRange(files.get(table.path)!.text, constraint.start);
}
