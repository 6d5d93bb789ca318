import { sha256 } from '@noble/hashes/sha2.js';
import { bytesToHex, utf8ToBytes } from '@noble/hashes/utils.js';
import type { IndexedFile, Project, ProjectFunction, Table } from '../model/project.js';
import { withoutLayout } from '../sql/tokens.js';
import { functionsOf } from './functions.js';
import { settingsOf } from '../model/settings.js';
import { inferredTables, lookedUpTables } from './looked-up.js';

const cache = new WeakMap<Project, ReadonlyMap<string, string>>();
const fileDigests = new WeakMap<IndexedFile, string>();

/**
 * What each table's content depends on: its definition without comments and layout, the functions
 * and parameters that it uses, and the fingerprints of what it reads. 32 hexadecimal digits.
 * Tables of a cycle have none.
 */
export function fingerprints(project: Project): ReadonlyMap<string, string> {
  const known = cache.get(project);
  if (known) return known;
  const result = new Map<string, string>();
  const settings = settingsOf(project);
  for (const name of project.order) {
    const table = project.tables.get(name)!;
    const parts = [
      table.kind,
      ownDigest(project, table),
      ...(lookedUpTables(project).has(name) ? ['looked up'] : []),
      ...(inferredTables(project).has(name) ? ['inferred'] : []),
    ];
    for (const f of functionsOf(project, [name])) parts.push(functionText(project, f));
    if (table.kind === 'definition' && table.query) {
      for (const s of table.query.settings)
        parts.push(
          `${s.setting}=${settings.get(s.setting) ?? table.each?.values.get(s.setting.slice('each.'.length)) ?? ''}`,
        );
    }
    for (const input of project.reads.get(name) ?? []) parts.push(`${input}:${result.get(input) ?? ''}`);
    result.set(name, hash(parts.join('\u0000')));
  }
  cache.set(project, result);
  return result;
}

function hash(text: string): string {
  return bytesToHex(sha256(utf8ToBytes(text))).slice(0, 32);
}

function functionText(project: Project, f: ProjectFunction): string {
  return withoutLayout(project.files.get(f.path)!.text, f.range.start, f.range.end);
}

function ownDigest(project: Project, table: Table): string {
  const file = project.files.get(table.path)!;
  switch (table.kind) {
    case 'source':
      return hash(withoutLayout(file.text, table.contract.range.start, table.contract.range.end));
    case 'reference':
      return fileDigest(file) + (table.csvPath === table.path ? '' : fileDigest(project.files.get(table.csvPath)!));
    case 'definition':
      return fileDigest(file);
  }
}

/** The digest of a file: of its statements but for comments, or of a CSV's whole text. */
function fileDigest(file: IndexedFile): string {
  const known = fileDigests.get(file);
  if (known !== undefined) return known;
  const digest = hash(
    file.statements ? file.statements.map((s) => withoutLayout(file.text, s.start, s.end)).join(';') : file.text,
  );
  fileDigests.set(file, digest);
  return digest;
}
