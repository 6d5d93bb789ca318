import { withParameterValues } from '@ouvrage/core/assist';
import type { Project } from '@ouvrage/core/model';
import { didYouMean } from '@ouvrage/core/sql';
import { Problem } from '../shared/problem.js';

/** Files with other values of parameters. @throws Problem for a name that the project does not set, or a value that is no text */
export function parameterFiles(project: Project, values: Readonly<Record<string, string>>): Map<string, string> {
  for (const [name, value] of Object.entries(values)) {
    if (!project.parameters.has(name)) {
      const known = [...project.parameters.keys()];
      throw new Problem(
        422,
        'unknown-parameter',
        `The project does not set param.${name}`,
        didYouMean(name, known) ??
          (known.length ? `Its parameters are ${known.join(', ')}.` : 'Write it into parameters.sql.'),
      );
    }
    if (typeof value !== 'string' || value.length > 1000)
      throw new Problem(
        422,
        'bad-parameter',
        `The value of param.${name} is not a text of at most 1,000 characters`,
        'Give it as text.',
      );
  }
  return withParameterValues(project, new Map(Object.entries(values)));
}
