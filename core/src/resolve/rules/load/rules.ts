import type { Diagnostic } from '../../../model/diagnostic.js';
import type { Definition } from '../../../model/project.js';
import { before } from './before.js';
import { conditions } from './conditions.js';
import { CheckedLoad, type LoadRule, type LoadSurroundings } from './load.js';
import { lookUps } from './look-ups.js';
import { misplaced, previousOf, shape } from './misplaced.js';
import { missingRows } from './missing-rows.js';
import { namedColumns } from './named-columns.js';
import { needs } from './needs.js';
import { comparedTypes, watermarkType } from './types.js';

const RULES: readonly LoadRule[] = [
  needs,
  missingRows,
  misplaced,
  shape,
  previousOf,
  namedColumns,
  comparedTypes,
  watermarkType,
  conditions,
  before,
  lookUps,
];

/** Whether a table's load has all that its policy needs, and nothing that it cannot use. */
export function loadDiagnostics(table: Definition, around: LoadSurroundings): Diagnostic[] {
  const load = new CheckedLoad(table, around);
  for (const rule of RULES) rule(load);
  return load.found;
}
