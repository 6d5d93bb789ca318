import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';
import type { Layer, ReviewRule } from '../../../model/project.js';
import { ruleOfUnknownLayer } from '../../messages.js';

/** Rules of review.sql for layers that the project does not have: they would ask nothing. */
export const reviewRuleDiagnostics = (rules: readonly ReviewRule[], layers: readonly Layer[]): Diagnostic[] =>
  rules.flatMap(({ name, layer, range }) =>
    layer === undefined || layers.some((l) => l.name === layer)
      ? []
      : errorAt(
          { path: 'review.sql', range },
          ruleOfUnknownLayer(
            name,
            layer,
            layers.map((l) => l.name),
          ),
        ),
  );
