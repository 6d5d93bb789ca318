import { exampleDefinition } from '../graph/example-inputs.js';
import { fingerprints } from '../graph/fingerprint.js';
import { digest } from '../model/digest.js';
import type { Example, Project } from '../model/project.js';

/** What the outcome of an example depends on: its files, and its table with all that the table reads. 32 hexadecimal digits. */
export function exampleDigest(project: Project, example: Example): string {
  const table = exampleDefinition(example.table, project.tables);
  const print = table ? (fingerprints(project).get(table.fullName) ?? '') : '';
  const files = [...example.files].sort((a, b) => (a.path < b.path ? -1 : 1)).map((f) => [f.path, f.header, f.rows]);
  return digest(`${print} ${JSON.stringify(files)}`);
}
