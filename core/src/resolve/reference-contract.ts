import type { Definition, ReferenceTable } from '../model/project.js';
const joined = new WeakMap<Definition, WeakMap<ReferenceTable, ReferenceTable>>();

/** A reference table with the contract of the file beside its CSV; the same object for the same two. */
export function withContract(csv: ReferenceTable, contract: Definition): ReferenceTable {
  const ofContract = joined.get(contract) ?? new WeakMap<ReferenceTable, ReferenceTable>();
  joined.set(contract, ofContract);
  const known = ofContract.get(csv);
  const table: ReferenceTable = known ?? {
    ...csv,
    path: contract.path,
    nameRange: contract.nameRange,
    ...(contract.contract ? { contract: contract.contract } : {}),
    ...(contract.comment === undefined ? {} : { comment: contract.comment }),
  };
  ofContract.set(csv, table);
  return table;
}
