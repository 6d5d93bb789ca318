import { orderOf } from '../graph/graph.js';
import { constraintRange } from '../index/contract.js';
import { remotePlace } from '../model/source.js';
import { WAREHOUSE_SERVER } from '../model/source.js';
import { didYouMean } from '../sql/nearest.js';
import type { Range } from '../sql/positions.js';
import { unreadDates, withContract } from './rules/contract.js';
import { ColumnReader, type ReadColumns } from './column-reader.js';
import type { Diagnostic } from '../model/diagnostic.js';
import { fanOut, fansOut, ofOneEach } from './fan-out.js';
import { dimensionsOf } from '../graph/inputs.js';
import { indexFile, unreadable } from '../index/index-file.js';
import { NameResolver, type Mentions } from './name-resolver.js';
import type { Column, Definition, IndexedFile, Layer, Parameter, Project, ProjectFunction, Table } from '../model/project.js';

/**
 * Reads a project from its files: each file is indexed from its text alone, then names are resolved
 * across files, then columns in the tables' order. With the project as it was before, only changed
 * files are parsed, and only what depends on them is resolved again.
 *
 * @param files texts by path, `staging/berth.sql`
 * @param read files of it that were read already
 */
export function readProject(files: ReadonlyMap<string, string>, before?: Project, read?: ReadonlyMap<string, IndexedFile>): Project {
  const indexed = new Map<string, IndexedFile>();
  for (const [path, text] of files) {
    const known = before?.files.get(path);
    indexed.set(path, known?.text === text ? known : (read?.get(path) ?? indexFile(path, text)));
  }
  return new Resolver(indexed, before && memos.get(before)).resolve();
}

/** The project with some files changed; `null` deletes a file. @param read files of them that were read already */
export function changeFiles(project: Project, changes: ReadonlyMap<string, string | null>, read?: ReadonlyMap<string, IndexedFile>): Project {
  const indexed = new Map(project.files);
  for (const [path, text] of changes) {
    if (text === null) indexed.delete(path);
    else if (indexed.get(path)?.text !== text) indexed.set(path, read?.get(path) ?? indexFile(path, text));
  }
  return new Resolver(indexed, memos.get(project)).resolve();
}

interface ResolvedTable {
  readonly table: Table;
  readonly inputs: readonly (readonly Column[] | undefined)[];
  /** The types that the functions of its query declare, as one text. */
  readonly returns: string;
  readonly columns: readonly Column[] | undefined;
  readonly diagnostics: readonly Diagnostic[];
}

/** What is kept of a reading for the next one. */
interface Memo {
  readonly tables: ReadonlyMap<string, ResolvedTable>;
  /** By the query, and the table that reads it. */
  readonly mentions: Mentions;
  readonly names: Names;
}

/** All names that a query can mention, in the order in which messages tell them. */
interface Names {
  readonly layers: readonly string[];
  readonly tables: ReadonlyMap<string, Table>;
  readonly functions: ReadonlyMap<string, unknown>;
  readonly parameters: ReadonlyMap<string, unknown>;
}

const memos = new WeakMap<Project, Memo>();

/** Members of a cycle up to which each is told, with the whole way round; of a larger one, one is. */
const LARGEST_CYCLE_TOLD = 12;
class Resolver {
  private readonly diagnostics: Diagnostic[] = [];
  readonly layers: Layer[] = [];
  readonly tables = new Map<string, Table>();
  readonly byLayer = new Map<string, Set<string>>();
  readonly functions = new Map<string, ProjectFunction>();
  readonly parameters = new Map<string, Parameter>();
  readonly columns = new Map<string, readonly Column[] | undefined>();
  private readonly resolved = new Map<string, ResolvedTable>();
  private readonly named: NameResolver;
  private readonly reader: ColumnReader;

  constructor(
    readonly files: ReadonlyMap<string, IndexedFile>,
    private readonly memo: Memo | undefined,
  ) {
    this.named = new NameResolver(this, this.diagnostics);
    this.reader = new ColumnReader(this);
  }

  resolve(): Project {
    const servers = new Map<string, IndexedFile['servers'][number]>();
    const checks = new Map<string, IndexedFile['checks'][number]>();
    const adhoc = new Map<string, IndexedFile['adhoc'][number]>();
    for (const file of this.files.values()) {
      this.diagnostics.push(...file.diagnostics);
      this.layers.push(...file.layers);
      for (const p of file.parameters) this.parameters.set(p.name, p);
      for (const s of file.servers) servers.set(s.name, s);
      for (const f of file.functions) this.functions.set(f.name, f);
      for (const c of file.checks) checks.set(c.name, c);
      for (const a of file.adhoc) adhoc.set(a.name, a);
    }
    this.collectTables();
    if (this.memo && sameNames(this.memo.names, this.names())) this.named.before = this.memo.mentions;
    const reads = new Map<string, readonly string[]>();
    for (const table of this.tables.values()) reads.set(table.fullName, this.readsOf(table));
    for (const check of checks.values()) this.named.mentions(check.path, check.query);
    for (const query of adhoc.values()) this.named.mentions(query.path, query.query);
    for (const f of this.functions.values()) this.named.functionMentions(f.path, f.functions);
    const needs = new Map([...reads].map(([name, inputs]) => [name, this.needsOf(this.tables.get(name)!, inputs)]));
    const { order, cycles } = orderOf(needs);
    for (const cycle of cycles) this.reportCycle(cycle);
    for (const name of order) this.resolveTable(this.tables.get(name)!, needs.get(name)!);
    for (const c of checks.values()) this.diagnostics.push(...this.reader.queryColumns(c.path, c.query).diagnostics);
    for (const a of adhoc.values()) this.diagnostics.push(...this.reader.queryColumns(a.path, a.query).diagnostics);
    for (const table of this.tables.values()) {
      if (table.kind === 'source' && table.server !== WAREHOUSE_SERVER && !servers.has(table.server)) {
        this.report(
          table.path,
          table.nameRange,
          'unknown-table',
          `${table.fullName} is of server ${table.server}, which no file creates`,
          didYouMean(table.server, servers.keys()) ?? `write create server ${table.server}`,
        );
      }
    }
    this.refuseOwnTables();
    const project: Project = {
      files: this.files,
      layers: this.layers,
      tables: this.tables,
      servers,
      functions: this.functions,
      checks,
      adhoc,
      parameters: this.parameters,
      reads,
      needs,
      order,
      columns: this.columns,
      diagnostics: ofOneEach(this.diagnostics, this.tables),
    };
    memos.set(project, { tables: this.resolved, mentions: this.named.resolved, names: this.names() });
    return project;
  }

  private names(): Names {
    return { layers: this.layers.map((l) => l.name), tables: this.tables, functions: this.functions, parameters: this.parameters };
  }

  private report(path: string, range: Range, code: Diagnostic['code'], message: string, hint?: string, related?: Diagnostic['related']): void {
    this.diagnostics.push({ code, severity: 'error', path, range, message, ...(hint ? { hint } : {}), ...(related ? { related } : {}) });
  }

  private collectTables(): void {
    const layerNames = new Set(this.layers.map((l) => l.name));
    for (const layer of layerNames) this.byLayer.set(layer, new Set());
    const contracts: Definition[] = [];
    const fanning: Definition[] = [];
    for (const file of this.files.values()) {
      for (const table of file.tables) {
        if (!layerNames.has(table.layer)) {
          const near = didYouMean(table.layer, layerNames);
          this.report(
            table.path,
            table.nameRange,
            'unknown-layer',
            `${table.layer} is not a layer`,
            near ?? `write create schema ${table.layer} in layers.sql`,
          );
        }
        if (table.kind === 'definition' && table.layer === 'reference') contracts.push(table);
        else if (table.kind === 'definition' && fansOut(table)) fanning.push(table);
        else this.addTable(table);
      }
    }
    for (const contract of contracts) this.joinReference(contract);
    for (const table of fanning) {
      const { tables, diagnostics } = fanOut(table, this.tables, this.layers, (list) => this.files.get(list.csvPath));
      this.diagnostics.push(...diagnostics);
      for (const each of tables) this.addTable(each);
    }
  }

  private addTable(table: Table): void {
    const other = this.tables.get(table.fullName);
    if (other) {
      this.report(table.path, table.nameRange, 'duplicate-table', `${table.fullName} is already made by ${other.path}`, 'rename one of the files', [
        { path: other.path, range: other.nameRange, message: 'the other one' },
      ]);
      return;
    }
    this.tables.set(table.fullName, table);
    if (!(table.kind === 'definition' && table.each)) this.byLayer.get(table.layer)?.add(table.name);
  }

  /** `reference/x.sql` gives `reference/x.csv` its contract. */
  private joinReference(contract: Definition): void {
    const csv = this.tables.get(contract.fullName);
    if (csv?.kind !== 'reference') {
      this.report(
        contract.path,
        contract.nameRange,
        'unknown-table',
        `there is no CSV file beside ${contract.path}`,
        `add ${contract.path.replace(/\.sql$/, '.csv')}`,
      );
      return;
    }
    const table = withContract(csv, contract);
    this.tables.set(contract.fullName, table);
    this.diagnostics.push(...unreadDates(table, this.files.get(csv.csvPath)!));
  }

  /** The tables that one reads, in the order of mention; unknown names and later layers are reported. */
  private readsOf(table: Table): readonly string[] {
    if (table.kind !== 'definition' || !table.query) return [];
    const inputs = this.named.mentions(table.path, table.query, table);
    const throughFunctions = this.named.tablesOfFunctions(table.query.functions);
    return [...new Set([...inputs, ...throughFunctions, ...dimensionsOf(table, this.tables)])];
  }

  /** Inputs, and the tables that constraints reference: their checks read those. */
  private needsOf(table: Table, inputs: readonly string[]): readonly string[] {
    if (table.kind === 'source') return inputs;
    const needs = new Set(inputs);
    for (const { references } of table.contract?.constraints ?? [])
      if (references && references.table !== table.fullName && this.tables.has(references.table)) needs.add(references.table);
    return [...needs];
  }

  private reportCycle(cycle: readonly string[]): void {
    const isLarge = cycle.length - 1 > LARGEST_CYCLE_TOLD;
    for (let i = 0; i + 1 < (isLarge ? 2 : cycle.length); i++) {
      const table = this.tables.get(cycle[i]!)!;
      const next = cycle[i + 1]!;
      const mention =
        (table.kind === 'definition' ? table.query?.tables.find((t) => `${t.layer ?? ''}.${t.name}` === next) : undefined) ?? this.referenceTo(table, next);
      const from = [...cycle.slice(i, -1), ...cycle.slice(0, i), cycle[i]!];
      const way = isLarge ? [...from.slice(0, LARGEST_CYCLE_TOLD), `… (${cycle.length - 1} tables in all)`, from.at(-2)!, from.at(-1)!] : from;
      this.report(table.path, mention ?? table.nameRange, 'cycle', `${table.fullName} reads itself: ${way.join(' reads ')}`, 'take one of these steps out');
    }
  }

  private referenceTo(table: Table, target: string): Range | undefined {
    const constraint = table.contract?.constraints.find((c) => c.references?.table === target);
    return constraint && constraintRange(this.files.get(table.path)!.text, constraint.start);
  }

  /** What the project makes is read as a table of the project: as a source it would be brought in before it is made. */
  private refuseOwnTables(): void {
    for (const table of this.tables.values()) {
      if (table.kind !== 'source' || table.server !== WAREHOUSE_SERVER) continue;
      const { schema, name } = remotePlace(table);
      if (this.layers.some((l) => l.name === schema))
        this.report(
          table.path,
          table.nameRange,
          'bad-option',
          `${table.fullName} is assigned to ${schema}, which is a layer of the project`,
          `read ${schema}.${name} itself`,
        );
    }
  }

  private returnsOf(table: Table): string {
    const used = table.kind === 'definition' ? (table.query?.functions ?? []) : [];
    return used.length ? used.map((f) => this.functions.get(f.name)?.returns ?? '').join('\u0000') : '';
  }

  private resolveTable(table: Table, needs: readonly string[]): void {
    const inputs = needs.map((name) => this.columns.get(name));
    const returns = this.returnsOf(table);
    const known = this.memo?.tables.get(table.fullName);
    if (known && known.table === table && known.returns === returns && known.inputs.length === inputs.length && known.inputs.every((c, i) => c === inputs[i])) {
      this.resolved.set(table.fullName, known);
      this.columns.set(table.fullName, known.columns);
      this.diagnostics.push(...known.diagnostics);
      return;
    }
    const fresh = this.columnsOrFault(table);
    const columns = known && sameColumns(known.columns, fresh.columns) ? known.columns : fresh.columns;
    this.resolved.set(table.fullName, { table, inputs, returns, columns, diagnostics: fresh.diagnostics });
    this.columns.set(table.fullName, columns);
    this.diagnostics.push(...fresh.diagnostics);
  }

  /** A fault of this program in one table is told there, and stops nothing else. */
  private columnsOrFault(table: Table): ReadColumns {
    try {
      return this.reader.columnsOf(table);
    } catch (error) {
      return { columns: undefined, diagnostics: [unreadable(table.path, table.nameRange, error)] };
    }
  }
}
/** Whether two readings have the same names: then what mentions them means the same. */
function sameNames(a: Names, b: Names): boolean {
  const sameKeys = (x: ReadonlyMap<string, unknown>, y: ReadonlyMap<string, unknown>) => x.size === y.size && [...x.keys()].every((k) => y.has(k));
  return (
    a.layers.length === b.layers.length &&
    a.layers.every((l, i) => l === b.layers[i]) &&
    sameKeys(a.tables, b.tables) &&
    sameKeys(a.functions, b.functions) &&
    sameKeys(a.parameters, b.parameters)
  );
}

function sameColumns(a: readonly Column[] | undefined, b: readonly Column[] | undefined): boolean {
  if (!a || !b) return a === b;
  return a.length === b.length && a.every((c, i) => c.name === b[i]!.name && c.type === b[i]!.type && c.origins.join() === b[i]!.origins.join());
}
