import type { FuncCall, SelectStmt } from 'libpg-query';
import type { Around } from '../columns/reader.js';
import { FUNCTIONS_SCHEMA } from '../index/mentions.js';
import { strings } from '../sql/nodes.js';
import { eachNode } from './conditions.js';

/** The calls of a select that change how many rows there are, or look at several of them. */
export interface Calls {
  readonly hasAggregate: boolean;
  /** Aggregates with a FILTER. */
  readonly filtered: readonly FuncCall[];
  readonly windows: readonly FuncCall[];
  /** The columns are sets: each row becomes several. */
  readonly hasSet: boolean;
}

/** Finds the calls of a select's columns, HAVING and ORDER BY; those of queries inside of it are theirs. */
export function callsOf({ targetList, havingClause, sortClause }: SelectStmt, around: Around): Calls {
  const filtered: FuncCall[] = [];
  const windows: FuncCall[] = [];
  let hasAggregate = false;
  let hasSet = false;
  eachNode([targetList, havingClause, sortClause], (kind, value) => {
    if (kind === 'SubLink') return false;
    if (kind === 'GroupingFunc') hasAggregate = true;
    if (kind !== 'FuncCall') return true;
    const call = value as FuncCall;
    if (call.over) windows.push(call);
    else if (isAggregate(call, around)) {
      hasAggregate = true;
      if (call.agg_filter) filtered.push(call);
    } else if (returnsSet(call, around)) hasSet = true;
    return true;
  });
  return { hasAggregate, filtered, windows, hasSet };
}

function isAggregate(call: FuncCall, { catalog }: Around): boolean {
  if (call.agg_star || call.agg_filter || call.agg_within_group || call.agg_order || call.agg_distinct) return true;
  const names = strings(call.funcname);
  return names[0] !== FUNCTIONS_SCHEMA && catalog.functions(names.at(-1)!).some((f) => f.kind === 'a');
}

function returnsSet(call: FuncCall, { catalog, declaredFunction }: Around): boolean {
  const names = strings(call.funcname);
  return names.length === 2 && names[0] === FUNCTIONS_SCHEMA
    ? declaredFunction(names[1]!)?.returnsSet === true
    : catalog.functions(names.at(-1)!).some((f) => f.returnsSet);
}
