import type { IndexedFile, Query } from '../model/project.js';

/** The queries of a file: of definitions, checks and ad hoc ones. */
export const fileQueries = (file: IndexedFile): readonly Query[] => [
  ...file.tables.flatMap((t) => (t.kind === 'definition' && t.query ? [t.query] : [])),
  ...file.checks.map((c) => c.query),
  ...file.adhoc.map((a) => a.query),
];
