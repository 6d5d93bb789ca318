import type { Diagnostic } from '../model/diagnostic.js';
import type {
  AdhocQuery,
  CheckQuery,
  Example,
  ExampleFile,
  IndexedFile,
  Job,
  Layer,
  Parameter,
  ProjectFunction,
  ReviewRule,
  Server,
} from '../model/project.js';

/** What files declare, put together by name; of two of one name the later counts. */
export interface Gathered {
  readonly layers: readonly Layer[];
  readonly parameters: ReadonlyMap<string, Parameter>;
  readonly reviewRules: readonly ReviewRule[];
  readonly servers: ReadonlyMap<string, Server>;
  readonly functions: ReadonlyMap<string, ProjectFunction>;
  readonly checks: ReadonlyMap<string, CheckQuery>;
  readonly jobs: ReadonlyMap<string, Job>;
  readonly adhoc: ReadonlyMap<string, AdhocQuery>;
  readonly examples: ReadonlyMap<string, readonly Example[]>;
  readonly diagnostics: readonly Diagnostic[];
}

/** The first phase: all that files declare but for tables, which need each other. Most files declare a table and nothing else. */
export function gather(files: ReadonlyMap<string, IndexedFile>): Gathered {
  const layers: Layer[] = [];
  const parameters = new Map<string, Parameter>();
  const reviewRules: ReviewRule[] = [];
  const servers = new Map<string, Server>();
  const functions = new Map<string, ProjectFunction>();
  const checks = new Map<string, CheckQuery>();
  const jobs = new Map<string, Job>();
  const adhoc = new Map<string, AdhocQuery>();
  const exampleFiles: ExampleFile[] = [];
  const diagnostics: Diagnostic[] = [];
  for (const file of files.values()) {
    for (const d of file.diagnostics) diagnostics.push(d);
    for (const l of file.layers) layers.push(l);
    for (const p of file.parameters) parameters.set(p.name, p);
    for (const r of file.reviewRules) reviewRules.push(r);
    for (const s of file.servers) servers.set(s.name, s);
    for (const f of file.functions) functions.set(f.name, f);
    for (const c of file.checks) checks.set(c.name, c);
    for (const j of file.jobs) jobs.set(j.name, j);
    for (const a of file.adhoc) adhoc.set(a.name, a);
    for (const e of file.examples) exampleFiles.push(e);
  }
  return {
    layers,
    parameters,
    reviewRules,
    servers,
    functions,
    checks,
    jobs,
    adhoc,
    examples: examplesOf(exampleFiles),
    diagnostics,
  };
}

/** Files of worked examples put together, by table and name. */
function examplesOf(files: readonly ExampleFile[]): Map<string, Example[]> {
  const found = new Map<string, Map<string, ExampleFile[]>>();
  for (const file of files) {
    let ofTable = found.get(file.table);
    if (!ofTable) found.set(file.table, (ofTable = new Map()));
    const parts = ofTable.get(file.example);
    if (parts) parts.push(file);
    else ofTable.set(file.example, [file]);
  }
  return new Map(
    [...found].map(([table, byName]) => [
      table,
      [...byName].sort(([a], [b]) => (a < b ? -1 : 1)).map(([name, parts]) => ({ table, name, files: parts })),
    ]),
  );
}
