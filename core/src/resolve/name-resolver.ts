import type { Range } from '../sql/positions.js';
import { errorAt, type Diagnostic, type Finding } from '../model/diagnostic.js';
import {
  eachWithoutList,
  laterLayer,
  theLayersAre,
  unknownFunction,
  unknownLayer,
  unknownParameter,
  unknownTable,
  withoutLayer,
} from './messages.js';
import { fansOut } from './fan-out.js';
import type { FunctionMention, Layer, ProjectFunction, Query, Table, TableMention } from '../model/project.js';

/** All names of a project that a query can mention. */
export interface KnownNames {
  readonly layers: readonly Layer[];
  readonly tables: ReadonlyMap<string, Table>;
  /** The names of each layer's tables. */
  readonly byLayer: ReadonlyMap<string, ReadonlySet<string>>;
  readonly functions: ReadonlyMap<string, ProjectFunction>;
  readonly parameters: ReadonlyMap<string, unknown>;
}

/** What a query's names were resolved to, and what was wrong with them. */
export interface ResolvedMentions {
  readonly found: readonly string[];
  readonly diagnostics: readonly Diagnostic[];
}

/** By the query, and the table that reads it. */
export type Mentions = ReadonlyMap<Query, ReadonlyMap<Table | undefined, ResolvedMentions>>;

/** Schemas that any query may read. */
const SYSTEM_SCHEMAS = new Set(['pg_catalog', 'information_schema']);

/** Finds what the names of queries mean across files, and reports those that mean nothing or may not be used. */
export class NameResolver {
  readonly resolved = new Map<Query, Map<Table | undefined, ResolvedMentions>>();
  /** What names meant in the reading before, where they still mean the same. */
  before: Mentions | undefined;
  private readonly functionTables = new Map<string, readonly string[]>();
  /** Full names by the name alone, made when first asked for. */
  private byName: Map<string, string[]> | undefined;

  /** @param diagnostics what is wrong is added to them */
  constructor(
    private readonly known: KnownNames,
    private readonly diagnostics: Diagnostic[],
  ) {}

  private report(path: string, { start, end }: Range, finding: Finding): void {
    this.diagnostics.push(errorAt({ path, range: { start, end } }, finding));
  }

  mentions(path: string, query: Query, reader?: Table): readonly string[] {
    const known = this.before?.get(query)?.get(reader);
    const before = this.diagnostics.length;
    if (known) this.diagnostics.push(...known.diagnostics);
    const found = known?.found ?? this.resolvedMentions(path, query, reader);
    const ofQuery = this.resolved.get(query) ?? new Map<Table | undefined, ResolvedMentions>();
    this.resolved.set(query, ofQuery.set(reader, known ?? { found, diagnostics: this.diagnostics.slice(before) }));
    return found;
  }

  private resolvedMentions(path: string, query: Query, reader?: Table): string[] {
    const found: string[] = [];
    for (const mention of query.tables) {
      const name = this.mentioned(path, mention);
      if (!name) continue;
      found.push(name);
      if (reader) this.checkLayers(reader, mention, this.known.tables.get(name)!);
    }
    this.functionMentions(path, query.functions);
    for (const s of query.settings) {
      if (s.setting.startsWith('each.') && !(reader?.kind === 'definition' && fansOut(reader)))
        this.report(path, s, eachWithoutList(s.setting));
      const name = s.setting.startsWith('param.') ? s.setting.slice(6) : undefined;
      if (name !== undefined && !this.known.parameters.has(name))
        this.report(path, s, unknownParameter(name, this.known.parameters.keys()));
    }
    return found;
  }

  functionMentions(path: string, functions: readonly FunctionMention[]): void {
    for (const f of functions) {
      if (this.known.functions.has(f.name)) continue;
      this.report(path, f, unknownFunction(f.name, this.known.functions.keys()));
    }
  }

  /** The tables that functions read, through any number of others. */
  tablesOfFunctions(functions: readonly FunctionMention[]): string[] {
    const found = new Set<string>();
    const seen = new Set<string>();
    const open = [...functions].reverse();
    for (let mention = open.pop(); mention; mention = open.pop()) {
      const f = this.known.functions.get(mention.name);
      if (!f || seen.has(f.name)) continue;
      seen.add(f.name);
      for (const name of this.tablesOfFunction(f)) found.add(name);
      open.push(...[...f.functions].reverse());
    }
    return [...found];
  }

  /** Names that are wrong in a function are reported once, however many tables use it. */
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
      for (const t of this.known.tables.values())
        this.byName.set(t.name, [...(this.byName.get(t.name) ?? []), t.fullName]);
    }
    return this.byName.get(name) ?? [];
  }

  private mentioned(path: string, mention: TableMention): string | undefined {
    const { layer, name } = mention;
    if (layer === undefined) {
      this.report(path, mention, withoutLayer(name, this.named(name)));
      return undefined;
    }
    if (SYSTEM_SCHEMAS.has(layer)) return undefined;
    const full = `${layer}.${name}`;
    if (this.known.tables.has(full)) return full;
    // A three-part column reference may be alias.column.field.
    if (mention.ofColumn && !this.known.byLayer.has(layer)) return undefined;
    const inLayer = this.known.byLayer.get(layer);
    if (!inLayer)
      this.report(
        path,
        mention,
        unknownLayer(layer, this.known.byLayer.keys(), theLayersAre(this.known.byLayer.keys())),
      );
    else this.report(path, mention, unknownTable({ layer, name }, inLayer, this.named(name)));
    return undefined;
  }

  private checkLayers(reader: Table, mention: TableMention, input: Table): void {
    const position = (name: string) => this.known.layers.findIndex((l) => l.name === name);
    if (position(input.layer) <= position(reader.layer) || position(reader.layer) < 0) return;
    const earlier = this.known.layers.slice(0, position(reader.layer) + 1).map((l) => l.name);
    this.report(reader.path, mention, laterLayer([reader.fullName, input.fullName], reader.layer, earlier));
  }
}
