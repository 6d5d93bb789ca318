import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';

/** What is wrong with a column of a contract. */
export const columnProblem = (at: Pick<Diagnostic, 'path' | 'range'>, message: string, hint?: string): Diagnostic =>
  errorAt(at, 'contract-column', message, { hint });
