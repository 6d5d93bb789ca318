import { conditionProblems } from './condition.js';
import { didYouMean } from '../../sql/nearest.js';
import type { Diagnostic } from '../../model/diagnostic.js';
import type { SourceTable } from '../../model/project.js';
import { lookBackProblem, watermarkProblem } from '../../language/type-fitness.js';

/** What a source table's options say about its columns, held against them. */
export function sourceDiagnostics(table: SourceTable): Diagnostic[] {
  const { columns, options } = table.contract;
  const names = columns.map((c) => c.name);
  const found: Diagnostic[] = [];
  const report = (option: string, message: string, hint?: string) => {
    const { range } = options.get(option) ?? { range: table.nameRange };
    found.push({ code: 'bad-option', severity: 'error', path: table.path, range, message, ...(hint ? { hint } : {}) });
  };
  const watermark = options.get('watermark')?.value;
  if (options.get('intake')?.value === 'incremental' && watermark === undefined)
    report(
      'intake',
      `${table.fullName} is brought in incrementally but names no watermark`,
      `write watermark 'column', one of ${names.join(', ')}`,
    );
  if (watermark !== undefined && !names.includes(watermark))
    report(
      'watermark',
      `option watermark: ${table.fullName} has no column ${watermark}`,
      didYouMean(watermark, names) ?? `its columns are ${names.join(', ')}`,
    );
  const type =
    options.get('intake')?.value === 'incremental' ? columns.find((c) => c.name === watermark)?.type : undefined;
  const [unfit, back] = [type && watermarkProblem(type), options.get('look_back')?.value];
  if (unfit) report('watermark', `option watermark: ${unfit}`, 'choose a time or a number that grows');
  const wrong = type && !unfit && back !== undefined ? lookBackProblem(type, back) : undefined;
  if (wrong) report('look_back', `option look_back: ${wrong}`, `the watermark is of type ${type!}`);
  const only = options.get('only')?.value;
  if (only !== undefined)
    for (const problem of conditionProblems(only, table.name, names)) report('only', `option only: ${problem}`);
  return found;
}
