import { isFilled, namesIn } from '../../../language/contract.js';
import { specOf, comparesColumn } from '../../../language/spec.js';
import { comparisonProblem, keyProblem, lookBackProblem, watermarkProblem } from '../../../language/type-fitness.js';
import type { LoadRule } from './load.js';
import { CAST_TO_TEXT, CHOOSE_KEY, GROWING, inOption, ofColumn, watermarkIs } from './messages.js';

/** Types of columns by which a load tells rows apart and compares them. */
export const comparedTypes: LoadRule = (load) => {
  const key = namesIn(load.option('business_key')?.value);
  const spec = specOf(load.table);
  for (const column of load.columns) {
    if (isFilled(column)) continue;
    const isKey = key.includes(column.name);
    const problem = isKey
      ? keyProblem(column.type)
      : comparesColumn(spec, column)
        ? comparisonProblem(column.type)
        : undefined;
    if (problem !== undefined)
      load.report(ofColumn(column.name, problem, isKey ? CHOOSE_KEY : CAST_TO_TEXT), column.range);
  }
};

/** A watermark has a greatest value, and one can go back from it. */
export const watermarkType: LoadRule = (load) => {
  const [watermark, back] = [load.option('watermark'), load.option('look_back')];
  const type =
    specOf(load.table).kind === 'append' ? load.columns.find((c) => c.name === watermark?.value)?.type : undefined;
  if (!watermark || type === undefined) return;
  const unfit = watermarkProblem(type);
  if (unfit !== undefined) return load.report(inOption('watermark', unfit, GROWING), watermark.range);
  const wrong = back && lookBackProblem(type, back.value);
  if (wrong !== undefined) load.report(inOption('look_back', wrong, watermarkIs(type)), back!.range);
};
