import { conditionProblems } from './condition.js';
import { badOption } from '../../language/messages.js';
import { incrementalWithoutWatermark, unknownWatermark } from '../messages.js';
import { GROWING, watermarkIs } from './load/messages.js';
import { errorAt, type Diagnostic, type Finding } from '../../model/diagnostic.js';
import type { SourceTable } from '../../model/project.js';
import { lookBackProblem, watermarkProblem } from '../../language/type-fitness.js';

/** What a source table's options say about its columns, held against them. */
export function sourceDiagnostics(table: SourceTable): Diagnostic[] {
  const { columns, options } = table.contract;
  const names = columns.map((c) => c.name);
  const found: Diagnostic[] = [];
  const report = (option: string, finding: Finding) =>
    found.push(errorAt({ path: table.path, range: options.get(option)?.range ?? table.nameRange }, finding));
  const watermark = options.get('watermark')?.value;
  if (options.get('intake')?.value === 'incremental' && watermark === undefined)
    report('intake', incrementalWithoutWatermark(table.fullName, names));
  if (watermark !== undefined && !names.includes(watermark))
    report('watermark', unknownWatermark(table.fullName, watermark, names));
  const type =
    options.get('intake')?.value === 'incremental' ? columns.find((c) => c.name === watermark)?.type : undefined;
  const [unfit, back] = [type && watermarkProblem(type), options.get('look_back')?.value];
  if (unfit) report('watermark', badOption('watermark', unfit, GROWING));
  const wrong = type && !unfit && back !== undefined ? lookBackProblem(type, back) : undefined;
  if (wrong) report('look_back', badOption('look_back', wrong, watermarkIs(type!)));
  const only = options.get('only')?.value;
  if (only !== undefined)
    for (const problem of conditionProblems(only, table.name, names)) report('only', badOption('only', problem));
  return found;
}
