import { orderOf } from '../graph/graph.js';
import { constraintRange } from '../contract/contract.js';
import { remotePlace } from '../contract/import-tables.js';
import { WAREHOUSE_SERVER } from '../load/intake.js';
import { resolveColumns } from '../lineage/columns.js';
import { outputName } from '../lineage/output-name.js';
import { didYouMean } from '../sql/nearest.js';
import type { Range } from '../sql/positions.js';
import { nextToken } from '../sql/tokens.js';
import { columnDiagnostic, startOf } from './column-diagnostics.js';
import { contractDiagnostics, driftedColumns, referenceColumns, unreadDates, withContract, type ContractSurroundings } from './contract-diagnostics.js';
import type { Diagnostic } from './diagnostic.js';
import { policyDiagnostics } from './policy-diagnostics.js';
import { sourceDiagnostics } from './source-diagnostics.js';
import { fanOut, fansOut, ofOneEach } from './fan-out.js';
import { dimensionsOf, partialInputs } from './inputs.js';
import { indexFile, unreadable } from './index-file.js';
import type { Column, Definition, FunctionMention, IndexedFile, Layer, Parameter, Project, ProjectFunction, Query, Table, TableMention } from './model.js';

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

/** What a query's names were resolved to, and what was wrong with them. */
interface ResolvedMentions {
  readonly found: readonly string[];
  readonly diagnostics: readonly Diagnostic[];
}

/** What is kept of a reading for the next one. */
interface Memo {
  readonly tables: ReadonlyMap<string, ResolvedTable>;
  /** By the query, and the table that reads it. */
  readonly mentions: ReadonlyMap<Query, ReadonlyMap<Table | undefined, ResolvedMentions>>;
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
/** Problems of one query for which the nearest right name is looked for: nobody reads on that far. */
const MOST_HINTS = 100;
/** Columns that a table of PostgreSQL can have. */
const MOST_COLUMNS = 1600;

const NO_ORIGINS: readonly string[] = [];

/** Schemas that any query may read. */
const SYSTEM_SCHEMAS = new Set(['pg_catalog', 'information_schema']);

class Resolver {
  private readonly diagnostics: Diagnostic[] = [];
  private readonly layers: Layer[] = [];
  private readonly tables = new Map<string, Table>();
  private readonly byLayer = new Map<string, Set<string>>();
  private readonly functions: Map<string, Project['functions'] extends ReadonlyMap<string, infer F> ? F : never> = new Map();
  private readonly parameters = new Map<string, Parameter>();
  private readonly columns = new Map<string, readonly Column[] | undefined>();
  private readonly resolved = new Map<string, ResolvedTable>();
  private readonly mentionsResolved = new Map<Query, Map<Table | undefined, ResolvedMentions>>();
  private readonly functionTables = new Map<string, readonly string[]>();
  /** Full names by the name alone, made when first asked for. */
  private byName: Map<string, string[]> | undefined;
  /** Whether a query's names mean what they meant in the reading before. */
  private hasSameNames = false;
  private readonly inputs = new Map<string, readonly Column[] | undefined>();

  constructor(
    private readonly files: ReadonlyMap<string, IndexedFile>,
    private readonly memo: Memo | undefined,
  ) {}

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
    this.hasSameNames = this.memo !== undefined && sameNames(this.memo.names, this.names());
    const reads = new Map<string, readonly string[]>();
    for (const table of this.tables.values()) reads.set(table.fullName, this.readsOf(table));
    for (const check of checks.values()) this.mentions(check.path, check.query);
    for (const query of adhoc.values()) this.mentions(query.path, query.query);
    for (const f of this.functions.values()) this.functionMentions(f.path, f.functions);
    const needs = new Map([...reads].map(([name, inputs]) => [name, this.needsOf(this.tables.get(name)!, inputs)]));
    const { order, cycles } = orderOf(needs);
    for (const cycle of cycles) this.reportCycle(cycle);
    for (const name of order) this.resolveTable(this.tables.get(name)!, needs.get(name)!);
    for (const c of checks.values()) this.diagnostics.push(...this.queryColumns(c.path, c.query).diagnostics);
    for (const a of adhoc.values()) this.diagnostics.push(...this.queryColumns(a.path, a.query).diagnostics);
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
    memos.set(project, { tables: this.resolved, mentions: this.mentionsResolved, names: this.names() });
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
    const inputs = this.mentions(table.path, table.query, table);
    const throughFunctions = this.tablesOfFunctions(table.query.functions);
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

  private mentions(path: string, query: Query, reader?: Table): readonly string[] {
    const known = this.hasSameNames ? this.memo!.mentions.get(query)?.get(reader) : undefined;
    const before = this.diagnostics.length;
    if (known) this.diagnostics.push(...known.diagnostics);
    const found = known?.found ?? this.resolvedMentions(path, query, reader);
    const ofQuery = this.mentionsResolved.get(query) ?? new Map<Table | undefined, ResolvedMentions>();
    this.mentionsResolved.set(query, ofQuery.set(reader, known ?? { found, diagnostics: this.diagnostics.slice(before) }));
    return found;
  }

  private resolvedMentions(path: string, query: Query, reader?: Table): string[] {
    const found: string[] = [];
    for (const mention of query.tables) {
      const name = this.mentioned(path, mention);
      if (!name) continue;
      found.push(name);
      if (reader) this.checkLayers(reader, mention, this.tables.get(name)!);
    }
    this.functionMentions(path, query.functions);
    for (const s of query.settings) {
      if (s.setting.startsWith('each.') && !(reader?.kind === 'definition' && fansOut(reader)))
        this.report(
          path,
          s,
          'unknown-parameter',
          `${s.setting} has a value only in a definition with for_each`,
          "write for_each = 'reference.table' in its options",
        );
      const name = s.setting.startsWith('param.') ? s.setting.slice(6) : undefined;
      if (name !== undefined && !this.parameters.has(name)) {
        const near = didYouMean(name, this.parameters.keys());
        this.report(path, s, 'unknown-parameter', `parameters.sql sets no param.${name}`, near ?? `write set param.${name} = '…' there`);
      }
    }
    return found;
  }

  private functionMentions(path: string, functions: readonly FunctionMention[]): void {
    for (const f of functions) {
      if (this.functions.has(f.name)) continue;
      this.report(
        path,
        f,
        'unknown-function',
        `there is no function functions.${f.name}`,
        didYouMean(f.name, this.functions.keys()) ?? `add functions/${f.name}.sql`,
      );
    }
  }

  /** The tables that functions read, through any number of others. */
  private tablesOfFunctions(functions: readonly FunctionMention[]): string[] {
    const found = new Set<string>();
    const seen = new Set<string>();
    const open = [...functions].reverse();
    for (let mention = open.pop(); mention; mention = open.pop()) {
      const f = this.functions.get(mention.name);
      if (!f || seen.has(f.name)) continue;
      seen.add(f.name);
      for (const name of this.tablesOfFunction(f)) found.add(name);
      open.push(...[...f.functions].reverse());
    }
    return [...found];
  }

  /** Names that are wrong in a function are told once, however many tables use it. */
  private tablesOfFunction({ name, path, tables }: ProjectFunction): readonly string[] {
    const known = this.functionTables.get(name);
    if (known) return known;
    const found = tables.flatMap((t) => this.mentioned(path, t) ?? []);
    this.functionTables.set(name, found);
    return found;
  }

  /** The tables of a name in all layers. */
  private named(name: string): readonly string[] {
    if (!this.byName) {
      this.byName = new Map();
      for (const t of this.tables.values()) this.byName.set(t.name, [...(this.byName.get(t.name) ?? []), t.fullName]);
    }
    return this.byName.get(name) ?? [];
  }

  private mentioned(path: string, mention: TableMention): string | undefined {
    const { layer, name } = mention;
    if (layer === undefined) {
      const full = this.named(name);
      this.report(path, mention, 'table-without-layer', `${name} has no layer`, full.length ? `did you mean ${full.join(' or ')}?` : 'write layer.table');
      return undefined;
    }
    if (SYSTEM_SCHEMAS.has(layer)) return undefined;
    const full = `${layer}.${name}`;
    if (this.tables.has(full)) return full;
    // A three-part column reference may be alias.column.field.
    if (mention.ofColumn && !this.byLayer.has(layer)) return undefined;
    const inLayer = this.byLayer.get(layer);
    if (!inLayer)
      this.report(
        path,
        mention,
        'unknown-layer',
        `${layer} is not a layer`,
        didYouMean(layer, this.byLayer.keys()) ?? `the layers are ${[...this.byLayer.keys()].join(', ')}`,
      );
    else {
      const near = didYouMean(name, inLayer);
      const elsewhere = this.named(name);
      const hint = near?.replace('did you mean ', `did you mean ${layer}.`) ?? (elsewhere.length ? `there is ${elsewhere.join(', ')}` : undefined);
      this.report(path, mention, 'unknown-table', `layer ${layer} has no table ${name}`, hint);
    }
    return undefined;
  }

  private checkLayers(reader: Table, mention: TableMention, input: Table): void {
    const position = (name: string) => this.layers.findIndex((l) => l.name === name);
    if (position(input.layer) <= position(reader.layer) || position(reader.layer) < 0) return;
    this.report(
      reader.path,
      mention,
      'later-layer',
      `${reader.fullName} reads ${input.fullName}, which is of a later layer`,
      `a table of ${reader.layer} reads only from ${this.layers
        .slice(0, position(reader.layer) + 1)
        .map((l) => l.name)
        .join(', ')}`,
    );
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
  private columnsOrFault(table: Table): { columns: readonly Column[] | undefined; diagnostics: Diagnostic[] } {
    try {
      return this.columnsOf(table);
    } catch (error) {
      return { columns: undefined, diagnostics: [unreadable(table.path, table.nameRange, error)] };
    }
  }

  private columnsOf(table: Table): { columns: readonly Column[] | undefined; diagnostics: Diagnostic[] } {
    switch (table.kind) {
      case 'source':
        return { columns: table.contract.columns.map((c) => ({ name: c.name, type: c.type, origins: NO_ORIGINS })), diagnostics: sourceDiagnostics(table) };
      case 'reference':
        return referenceColumns(table);
      case 'definition': {
        if (!table.query) return { columns: table.contract?.columns.map((c) => ({ name: c.name, type: c.type, origins: NO_ORIGINS })), diagnostics: [] };
        const { columns, diagnostics } = this.queryColumns(table.path, table.query);
        diagnostics.push(
          ...this.unnamed(table.path, table.query, columns),
          ...policyDiagnostics(table, { tables: this.tables, query: columns, partial: partialInputs(table, this.tables) }),
          ...contractDiagnostics(table, columns, this.surroundings(table.path)),
        );
        const origins = (name: string) => columns?.find((c) => c.name === name)?.origins ?? NO_ORIGINS;
        return {
          columns: table.contract
            ? [...table.contract.columns.map((c) => ({ name: c.name, type: c.type, origins: origins(c.name) })), ...driftedColumns(table, columns)]
            : columns,
          diagnostics,
        };
      }
    }
  }

  private queryColumns(path: string, query: Query): { columns: readonly Column[] | undefined; diagnostics: Diagnostic[] } {
    const { columns, problems } = resolveColumns(
      query.select,
      (layer, name) => this.asInput(`${layer}.${name}`),
      (name) => this.functions.get(name)?.returns,
    );
    const diagnostics = problems.map((p, i) => columnDiagnostic(this.files.get(path)!, p, i < MOST_HINTS));
    if (columns && columns.length > MOST_COLUMNS)
      diagnostics.push({
        code: 'too-many-columns',
        severity: 'error',
        path,
        range: startOf(this.files.get(path)!, query),
        message: `the query returns ${columns.length} columns; a table has ${MOST_COLUMNS} at most`,
        hint: 'leave some out, or make several tables',
      });
    const seen = new Set<string>();
    for (const column of columns && columns.length <= MOST_COLUMNS ? columns : []) {
      if (column.name !== '?column?' && seen.has(column.name)) {
        diagnostics.push({
          code: 'duplicate-column',
          severity: 'error',
          path,
          range: startOf(this.files.get(path)!, query),
          message: `the query returns two columns named ${column.name}`,
          hint: 'give one of them another name with as',
        });
      }
      seen.add(column.name);
    }
    return { columns, diagnostics };
  }

  /** Columns without a name, of what makes a table. */
  private unnamed(path: string, query: Query, columns: readonly Column[] | undefined): Diagnostic[] {
    if (!columns?.some((c) => c.name === '?column?')) return [];
    const file = this.files.get(path)!;
    const places = unnamedItems(query.select).flatMap((location) => {
      const token = location === undefined ? undefined : nextToken(file.text, file.at!(location));
      return token ? [{ start: token.start, end: token.end }] : [];
    });
    return (places.length ? places : [startOf(file, query)]).map((range) => ({
      code: 'unnamed-column',
      severity: 'error',
      path,
      range,
      message: 'a column of the query has no name',
      hint: 'name it with as',
    }));
  }

  private surroundings(path: string): ContractSurroundings {
    return { file: this.files.get(path)!, tables: this.tables, columns: this.columns };
  }

  /** A table's columns as its readers see them: each comes from the table itself. */
  private asInput(table: string): readonly Column[] | undefined {
    if (!this.inputs.has(table))
      this.inputs.set(
        table,
        this.columns.get(table)?.map((c) => ({ name: c.name, type: c.type, origins: [`${table}.${c.name}`] })),
      );
    return this.inputs.get(table);
  }
}
/** Where the items of a query's first arm stand that have no name. */
function unnamedItems(select: Query['select']): (number | undefined)[] {
  let first = select;
  while (first.larg) first = first.larg;
  return (first.targetList ?? []).flatMap((node) => {
    const item = 'ResTarget' in node ? node.ResTarget : undefined;
    return item?.val && item.name === undefined && outputName(item.val) === '?column?' ? [item.location] : [];
  });
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
