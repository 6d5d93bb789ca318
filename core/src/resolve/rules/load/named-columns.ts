import { namesIn } from '../../../language/contract.js';
import { TABLE_OPTIONS, type OptionRule, type TableOption } from '../../../language/options.js';
import type { LoadRule } from './load.js';
import { unknownNamed } from './messages.js';

/** Options that name columns, and whose. */
const NAMING = (Object.entries(TABLE_OPTIONS) as [TableOption, OptionRule][]).flatMap(([option, { value }]) =>
  value.kind === 'columns' ? [[option, value.among] as const] : [],
);

/** Columns that options name, held against the contract or the query. */
export const namedColumns: LoadRule = (load) => {
  const { query } = load.around;
  for (const [option, among] of NAMING) {
    const set = load.option(option);
    if (!set) continue;
    const ofQuery = among === 'query';
    if (ofQuery && !query) continue;
    const names = (ofQuery ? query! : load.given()).map((c) => c.name);
    for (const name of namesIn(set.value)) {
      if (names.includes(name)) continue;
      load.report(unknownNamed(option, name, names, ofQuery ? undefined : load.table.fullName), set.range);
    }
  }
};
