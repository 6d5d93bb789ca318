import { orderOf, type Ordering } from '../graph/graph.js';
import { indexFile } from '../index/index-file.js';
import type { IndexedFile, Project } from '../model/project.js';
import { collectTables } from './collect-tables.js';
import { ofOneEach } from './fan-out.js';
import { gather } from './gather.js';
import { resolveColumns, type ColumnsMemo } from './resolve-columns.js';
import { resolveNames, type NamesMemo } from './resolve-names.js';
import { exampleDiagnostics } from './rules/example/example.js';
import { cycleDiagnostics } from './rules/project/cycles.js';
import { jobDiagnostics } from './rules/project/jobs.js';
import { noteDiagnostics } from './rules/project/notes.js';
import { reviewRuleDiagnostics } from './rules/project/review-rules.js';
import { ownTableDiagnostics, serverDiagnostics } from './rules/project/sources.js';

/**
 * Reads a project from its files: each file is indexed from its text alone, then names are resolved
 * across files, then columns in the tables' order. With the project as it was before, only changed
 * files are parsed, and only what depends on them is resolved again.
 *
 * @param files texts by path, `staging/berth.sql`
 * @param read files of it that were read already
 */
export function readProject(
  files: ReadonlyMap<string, string>,
  before?: Project,
  read?: ReadonlyMap<string, IndexedFile>,
): Project {
  const indexed = new Map<string, IndexedFile>();
  for (const [path, text] of files) {
    const known = before?.files.get(path);
    indexed.set(path, known?.text === text ? known : (read?.get(path) ?? indexFile(path, text)));
  }
  return resolve(indexed, before && memos.get(before));
}

/** The project with some files changed; `null` deletes a file. @param read files of them that were read already */
export function changeFiles(
  project: Project,
  changes: ReadonlyMap<string, string | null>,
  read?: ReadonlyMap<string, IndexedFile>,
): Project {
  const indexed = new Map(project.files);
  for (const [path, text] of changes) {
    if (text === null) indexed.delete(path);
    else if (indexed.get(path)?.text !== text) indexed.set(path, read?.get(path) ?? indexFile(path, text));
  }
  return resolve(indexed, memos.get(project));
}

/** What is kept of a reading for the next one. */
interface Memo {
  readonly names: NamesMemo;
  readonly ordering: Ordering;
  readonly columns: ColumnsMemo;
}

const memos = new WeakMap<Project, Memo>();

/** The phases of a reading: what files declare, tables, names, order, columns; each looks back at those before it. */
function resolve(files: ReadonlyMap<string, IndexedFile>, before: Memo | undefined): Project {
  const gathered = gather(files);
  const { layers, parameters, reviewRules, servers, functions, checks, jobs, adhoc, examples } = gathered;
  const collected = collectTables(files, layers);
  const { tables } = collected;
  const names = resolveNames(gathered, collected, before?.names);
  const ordering = before?.names.needs === names.needs ? before.ordering : orderOf(names.needs);
  const { order, cycles } = ordering;
  const columns = resolveColumns(order, names.needs, { files, tables, functions }, before?.columns);
  const queries = [...checks.values(), ...adhoc.values()];
  const diagnostics = [
    ...gathered.diagnostics,
    ...collected.diagnostics,
    ...names.diagnostics,
    ...cycles.flatMap((cycle) => cycleDiagnostics(cycle, tables, files)),
    ...columns.diagnostics,
    ...queries.flatMap((q) => columns.reader.queryColumns(q.path, q.query).diagnostics),
    ...serverDiagnostics(tables.values(), servers),
    ...ownTableDiagnostics(tables.values(), layers),
    ...reviewRuleDiagnostics(reviewRules, layers),
    ...exampleDiagnostics(examples, { ...names, files, tables, functions, parameters, columns: columns.columns }),
    ...jobDiagnostics(jobs, { layers, tables, parameters }),
    ...noteDiagnostics(files, { layers, tables, checks, columns: columns.columns }),
  ];
  const project: Project = {
    files,
    layers,
    tables,
    servers,
    functions,
    checks,
    jobs,
    adhoc,
    examples,
    parameters,
    reviewRules,
    reads: names.reads,
    needs: names.needs,
    order,
    columns: columns.columns,
    rows: columns.rows,
    diagnostics: ofOneEach(diagnostics, tables),
  };
  memos.set(project, { names: names.memo, ordering, columns: columns.memo });
  return project;
}
