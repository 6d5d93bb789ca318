import { columnOption, isFilled, namesIn } from '../../../language/contract.js';
import { specOf, type LoadSpec } from '../../../language/spec.js';
import { comparisonProblem, keyProblem, lookBackProblem, watermarkProblem } from '../../../language/type-fitness.js';
import type { ColumnDeclaration } from '../../../model/project.js';
import { unreachable } from '../../../model/unreachable.js';
import type { LoadRule } from './load.js';

/** Whether a load compares a column that is not part of the key between rows. */
function compares(spec: LoadSpec, column: ColumnDeclaration): boolean {
  switch (spec.kind) {
    case 'view':
    case 'rebuild':
    case 'append':
      return false;
    case 'merge':
      return !spec.setColumns?.length || spec.setColumns.includes(column.name);
    case 'history':
      return columnOption(column, 'on_change') !== 'keep';
    case 'events':
    case 'dated':
      return true;
    default:
      return unreachable(spec);
  }
}

/** Types of columns by which a load tells rows apart and compares them. */
export const comparedTypes: LoadRule = (load) => {
  const key = namesIn(load.option('business_key')?.value);
  const spec = specOf(load.table);
  for (const column of load.columns) {
    if (isFilled(column)) continue;
    const isKey = key.includes(column.name);
    const problem = isKey ? keyProblem(column.type) : compares(spec, column) ? comparisonProblem(column.type) : undefined;
    const hint = isKey
      ? 'make the key of columns whose values can be told apart'
      : 'its load compares rows: cast it to text in the query, and declare it as text';
    if (problem !== undefined) load.report(`${column.name}: ${problem}`, hint, column.range);
  }
};

/** A watermark has a greatest value, and one can go back from it. */
export const watermarkType: LoadRule = (load) => {
  const [watermark, back] = [load.option('watermark'), load.option('look_back')];
  const type = specOf(load.table).kind === 'append' ? load.columns.find((c) => c.name === watermark?.value)?.type : undefined;
  if (!watermark || type === undefined) return;
  const unfit = watermarkProblem(type);
  if (unfit !== undefined) return load.report(`option watermark: ${unfit}`, 'choose a time or a number that grows', watermark.range);
  const wrong = back && lookBackProblem(type, back.value);
  if (wrong !== undefined) load.report(`option look_back: ${wrong}`, `the watermark is of type ${type}`, back!.range);
};
