import type { LoadPolicy } from './load-policy.js';
import type { Node, SelectStmt } from 'libpg-query';
import type { Range } from '../sql/positions.js';
import type { ParsedText } from '../sql/parser.js';
import type { Diagnostic } from './diagnostic.js';

/** A value while it is being made. */
export type Writable<T> = { -readonly [K in keyof T]: T[K] };

/** A layer: a folder, and the schema that it becomes. */
export interface Layer {
  readonly name: string;
  readonly comment?: string;
  readonly range: Range;
}

/** A column as a contract or a source declares it. */
export interface ColumnDeclaration {
  readonly name: string;
  /** The type as PostgreSQL writes it, `numeric(10,1)`. */
  readonly type: string;
  readonly notNull: boolean;
  readonly options: Readonly<Record<string, string>>;
  readonly comment?: string;
  readonly range: Range;
}

export type ConstraintKind = 'not null' | 'unique' | 'primary key' | 'check' | 'references';

/** A constraint of a contract, under its declared name or the one that PostgreSQL would give it. */
export interface ConstraintDeclaration {
  readonly kind: ConstraintKind;
  readonly name: string;
  readonly columns: readonly string[];
  /** The condition of a check, as written. */
  readonly expression?: string;
  /** The condition as the parser read it. */
  readonly condition?: Node;
  readonly references?: { readonly table: string; readonly columns: readonly string[] };
  readonly comment?: string;
  /** Where it begins; `constraintRange` tells where it ends. */
  readonly start: number;
}

/** What `CREATE TABLE` (or `CREATE FOREIGN TABLE`) declares of a table. */
export interface Contract {
  readonly columns: readonly ColumnDeclaration[];
  readonly constraints: readonly ConstraintDeclaration[];
  readonly options: ReadonlyMap<string, OptionValue>;
  /** What PostgreSQL would do by itself and no load leaves to it. */
  readonly leftToDatabase: readonly LeftToDatabase[];
  readonly range: Range;
}

export interface LeftToDatabase {
  readonly kind: 'default' | 'identity' | 'generated' | 'exclusion' | 'collation';
  readonly column: string;
  readonly range: Range;
}

export interface OptionValue {
  readonly value: string;
  readonly range: Range;
}

/** A name of the project's as it is in a text. */
export interface TableMention extends Range {
  readonly layer?: string;
  readonly name: string;
  /** A mention in FROM that has no alias: a replacement under another name has to give it one. */
  readonly bare: boolean;
  /** `layer.table.column`: only the first two parts are in the range. */
  readonly ofColumn: boolean;
}

export interface FunctionMention extends Range {
  readonly name: string;
}

/** `current_setting('param.x')`, whole. */
export interface SettingMention extends Range {
  readonly setting: string;
}

/** A call whose result differs from one load to the next: of the time, or volatile; whole, with its parentheses. */
export interface MomentMention extends Range {
  /** In lower case, `current_date`. */
  readonly name: string;
  readonly kind: 'time' | 'volatile';
}

/** A query of a file, with every name in it that may have to be replaced. */
export interface Query extends Range {
  readonly select: SelectStmt;
  readonly tables: readonly TableMention[];
  readonly functions: readonly FunctionMention[];
  readonly settings: readonly SettingMention[];
  readonly moments: readonly MomentMention[];
}

interface TableBase {
  readonly layer: string;
  readonly name: string;
  /** `layer.name`: the key of a table everywhere. */
  readonly fullName: string;
  readonly path: string;
  readonly nameRange: Range;
  readonly comment?: string;
  readonly contract?: Contract;
}

export interface Definition extends TableBase {
  readonly kind: 'definition';
  readonly policy: LoadPolicy;
  readonly query?: Query;
  /** `SET` statements before the load. */
  readonly before: readonly Range[];
  /** Indexes, grants and analyze after it. */
  readonly after: readonly AfterStatement[];
  readonly columnComments: ReadonlyMap<string, string>;
  /** Of a definition that makes one table a row of a list: which row this table is for. */
  readonly each?: Each;
}

/** A row of the list of `for_each`, and what its table is called. */
export interface Each {
  /** The reference table. */
  readonly list: string;
  readonly values: ReadonlyMap<string, string>;
  readonly schema: string;
  /** The values that the schema's name is made from. */
  readonly label: string;
  /** The name that the file declares. */
  readonly declared: string;
}

export interface AfterStatement extends Range {
  readonly kind: 'index' | 'grant' | 'analyze';
  readonly tables: readonly TableMention[];
  /** An index's own name and place, if it has one. */
  readonly indexName?: Range & { readonly name: string };
}

export interface SourceTable extends TableBase {
  readonly kind: 'source';
  readonly server: string;
  readonly contract: Contract;
}

export interface ReferenceTable extends TableBase {
  readonly kind: 'reference';
  /** The CSV's header. */
  readonly header: readonly string[];
  readonly csvPath: string;
}

export type Table = Definition | SourceTable | ReferenceTable;

export interface Server {
  readonly name: string;
  readonly wrapper: string;
  readonly path: string;
  readonly range: Range;
  readonly options: ReadonlyMap<string, OptionValue>;
}

export interface ProjectFunction {
  readonly name: string;
  readonly path: string;
  readonly range: Range;
  readonly nameRange: Range;
  readonly tables: readonly TableMention[];
  readonly functions: readonly FunctionMention[];
  readonly moments: readonly MomentMention[];
  /** The type that it declares to return, of a set that of its values; undefined for a table. */
  readonly returns?: string;
  readonly returnsSet: boolean;
  /** The columns that it declares to return: of `returns table (…)`, or its output parameters. */
  readonly columns: readonly { readonly name: string; readonly type: string }[];
}

/** A file of `checks/`: a query over rows that should not exist. */
export interface CheckQuery {
  readonly name: string;
  readonly path: string;
  readonly nameRange: Range;
  readonly query: Query;
  readonly options: ReadonlyMap<string, OptionValue>;
  readonly comment?: string;
}

/** A file of `jobs/`: tables that are loaded together, and when. */
export interface Job {
  readonly name: string;
  readonly path: string;
  readonly nameRange: Range;
  /** The tables that it names, `layer.table`. */
  readonly tables: readonly (Range & { readonly layer: string; readonly name: string })[];
  /** The layers all of whose tables it loads. */
  readonly layers: readonly (Range & { readonly name: string })[];
  readonly options: ReadonlyMap<string, OptionValue>;
  readonly comment?: string;
}

export interface AdhocQuery {
  readonly name: string;
  readonly path: string;
  readonly query: Query;
}

/** What a file of a worked example gives. */
export type ExamplePart =
  /** Rows of a table that the query reads. @property load from 1 */
  | { readonly kind: 'input'; readonly table: string; readonly load: number }
  /** Members of a dimension in which keys are looked up. */
  | { readonly kind: 'member'; readonly table: string }
  /** The table before the first load, after the last one, the time and parameters, the row of a fan-out. */
  | { readonly kind: 'target' | 'result' | 'params' | 'each' };

/** `examples/core.dim_berth/moved/input.staging.berth.csv`. */
export interface ExampleFile {
  readonly path: string;
  /** The definition, `core.dim_berth`. */
  readonly table: string;
  readonly example: string;
  readonly part: ExamplePart;
  readonly header: readonly string[];
  /** A null is an unquoted empty field. */
  readonly rows: readonly (readonly (string | null)[])[];
  /** Where the header and each row are. */
  readonly headerRange: Range;
  readonly ranges: readonly Range[];
}

/** A worked example: input rows, and the result rows that one definition must make of them. */
export interface Example {
  readonly table: string;
  readonly name: string;
  readonly files: readonly ExampleFile[];
}

export interface Parameter {
  readonly name: string;
  readonly value: string;
  readonly path: string;
  readonly range: Range;
}

/** What may be asked of a release. */
export const REVIEW_RULES = ['approvals', 'by_owner'] as const;

/** What review.sql asks of a release: `set review.approvals = '1'`, of changes in one layer `set review.approvals.core = '2'`. */
export interface ReviewRule {
  readonly name: (typeof REVIEW_RULES)[number];
  readonly layer?: string;
  readonly value: string;
  readonly range: Range;
}

/** All that one file declares; made from its text alone. */
export interface IndexedFile {
  readonly path: string;
  readonly text: string;
  /** The statements but for comments; undefined for a CSV, empty where the text has a syntax error. */
  readonly statements?: readonly Range[];
  /** The character offset of a parser's location in the trees below. The file's whole tree is not kept. */
  readonly at?: ParsedText['at'] | undefined;
  readonly layers: readonly Layer[];
  readonly parameters: readonly Parameter[];
  readonly reviewRules: readonly ReviewRule[];
  readonly servers: readonly Server[];
  readonly tables: readonly Table[];
  readonly functions: readonly ProjectFunction[];
  readonly checks: readonly CheckQuery[];
  readonly jobs: readonly Job[];
  readonly adhoc: readonly AdhocQuery[];
  readonly examples: readonly ExampleFile[];
  readonly diagnostics: readonly Diagnostic[];
}

/** What becomes of a value on its way: of several things, the one that does most to it. */
export type EdgeKind = 'copied' | 'cast' | 'calculated' | 'aggregated';

/** A column that a query or a declaration gives. */
export interface Column {
  readonly name: string;
  /** The type as PostgreSQL writes it, in its short form; undefined where core cannot say it. */
  readonly type?: string | undefined;
  /** The project's columns that give its value, `layer.table.column`. */
  readonly origins: readonly string[];
  /**
   * What decides how rows pair, group or order for this column alone: columns, and `layer.table.*` for the rows of a
   * table. What decides which rows there are is the table's.
   */
  readonly influence: readonly string[];
  readonly kind: EdgeKind;
}

const NO_ORIGINS: readonly string[] = [];

/** A column whose value comes from nowhere in the project. */
export const declaredColumn = (name: string, type: string | undefined): Column => ({
  name,
  type,
  origins: NO_ORIGINS,
  influence: NO_ORIGINS,
  kind: 'copied',
});

/** The whole project, resolved. */
export interface Project {
  readonly files: ReadonlyMap<string, IndexedFile>;
  readonly layers: readonly Layer[];
  readonly tables: ReadonlyMap<string, Table>;
  readonly servers: ReadonlyMap<string, Server>;
  readonly functions: ReadonlyMap<string, ProjectFunction>;
  readonly checks: ReadonlyMap<string, CheckQuery>;
  readonly jobs: ReadonlyMap<string, Job>;
  readonly adhoc: ReadonlyMap<string, AdhocQuery>;
  /** Worked examples by the table that they are of. */
  readonly examples: ReadonlyMap<string, readonly Example[]>;
  readonly parameters: ReadonlyMap<string, Parameter>;
  readonly reviewRules: readonly ReviewRule[];
  /** For each table, the tables that it reads, in the order of their first mention. */
  readonly reads: ReadonlyMap<string, readonly string[]>;
  /** For each table, what has to be there before it is loaded: what it reads, and what its constraints reference. */
  readonly needs: ReadonlyMap<string, readonly string[]>;
  /** All tables, each after what it needs; tables of a cycle are left out. */
  readonly order: readonly string[];
  /** A table's columns; undefined where they cannot be known. */
  readonly columns: ReadonlyMap<string, readonly Column[] | undefined>;
  /** What decides which rows a table's query has: columns, and `layer.table.*` for the rows of a table. */
  readonly rows: ReadonlyMap<string, readonly string[]>;
  readonly diagnostics: readonly Diagnostic[];
}
