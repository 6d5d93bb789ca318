import { boundedName } from '../sql/quote.js';

/** The name of the common table expression that stands for a table. */
export const inlinedName = (table: string): string => boundedName(table);
