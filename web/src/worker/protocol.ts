import type { Inlined, Lift, Lifted } from '@ouvrage/core/anatomy';
import type {
  Found,
  Leftover,
  Named,
  Uses,
  Renamed,
  Renaming,
  Explanation,
  ContractEdit,
  ContractView,
  LayerStatement,
} from '@ouvrage/core/assist';
import type { Check } from '@ouvrage/core/check';
import type { TriedName } from '@ouvrage/core/intake';
import type { CarriedOwner, Coverage, Sensitivity, Station, Unread } from '@ouvrage/core/lineage';
import type { Diagnostic, ExamplePart, LoadPolicy } from '@ouvrage/core/model';
import type { Relation } from '@ouvrage/core/starter';

/** A table as the interface needs it: plain data, made by the worker from the project. */
export interface TableSummary {
  readonly fullName: string;
  readonly layer: string;
  readonly name: string;
  readonly path: string;
  /** Of a reference table: the file of its rows. */
  readonly csvPath?: string;
  readonly kind: 'definition' | 'source' | 'reference';
  readonly policy: LoadPolicy | 'intake' | 'reference';
  readonly comment?: string;
  readonly owner?: string;
  /** Without an owner of its own: those of the tables whose columns it has unchanged. */
  readonly carriedOwners?: readonly CarriedOwner[];
  readonly grain?: string;
  /** Of one table of a fan-out: the name that its file declares. */
  readonly declared?: string;
  readonly hasContract: boolean;
  /** Undefined where the columns cannot be known. */
  readonly columns?: readonly ColumnSummary[];
  readonly reads: readonly string[];
  /** Of a table with surrogate keys: what facts look up. */
  readonly dimension?: { readonly surrogate: string; readonly key: readonly string[] };
  /** Of a history table: what its rows are versions of, and the columns that say when each holds. */
  readonly history?: {
    readonly key: readonly string[];
    readonly validFrom: string;
    readonly validTo: string;
    readonly filled: readonly string[];
  };
}

export interface ColumnSummary {
  readonly name: string;
  readonly type?: string;
  readonly origins: readonly string[];
  readonly comment?: string;
  /** Without a description of its own: that of the column whose values it has unchanged. */
  readonly carried?: { readonly text: string; readonly from: ColumnRef };
  readonly role?: string;
  /** What is sensitive about its values, and the column at which that is declared. */
  readonly sensitive?: Sensitivity;
  readonly isKey: boolean;
  readonly notNull: boolean;
}

/** The line and column of a diagnostic, for lists. */
export type PlacedDiagnostic = Diagnostic & {
  readonly line: number;
  readonly column: number;
};

/** A worked example: its files, and what has to be given for its definition. */
export interface ExampleSummary {
  readonly table: string;
  readonly name: string;
  readonly files: readonly { readonly path: string; readonly part: ExamplePart }[];
}

export interface ProjectSummary {
  readonly layers: readonly { readonly name: string; readonly comment?: string }[];
  /** Where layers.sql makes them. */
  readonly layerStatements: readonly LayerStatement[];
  readonly tables: readonly TableSummary[];
  /** Servers that hold tables of other databases. */
  readonly servers: readonly string[];
  /** Parameters with their defaults. */
  readonly parameters: readonly { readonly name: string; readonly value: string }[];
  readonly relations: readonly Relation[];
  /** With what each says in words, and the table that it is about. */
  readonly checks: readonly (Check & { readonly title: string; readonly concerns: string })[];
  readonly adhoc: readonly { readonly name: string; readonly path: string }[];
  readonly examples: readonly ExampleSummary[];
  readonly diagnostics: readonly PlacedDiagnostic[];
}

/** What a keystroke in one file means. */
export interface EditAnswer {
  readonly diagnostics: readonly PlacedDiagnostic[];
  readonly impact: EditImpact;
  /** What is perhaps left over in its queries. */
  readonly leftovers: readonly Leftover[];
  readonly table?: TableSummary;
  /** Of a definition: its contract, for a form. */
  readonly contract?: ContractView;
}

/** A column of a table. */
export interface ColumnRef {
  readonly table: string;
  readonly column: string;
}

/** What an edit does to other definitions, as they are in the workspace. */
export interface EditImpact {
  /** Errors of other files that it causes. */
  readonly breaks: readonly PlacedDiagnostic[];
  /** Columns whose values may change. */
  readonly values: readonly ColumnRef[];
  /** Tables whose rows may be others. */
  readonly rows: readonly string[];
}

/** What a word means, and the table or column that it leads to. */
export type Explained = Explanation & {
  readonly target?: { readonly table: string; readonly column?: string };
  /** What bears the name, for a list of its uses. */
  readonly named?: Named;
};

/** The way of a column through the project. */
export interface TraceAnswer {
  /** The column itself, then all that gives its value, nearest first. */
  readonly back: readonly Station[];
  /** Columns whose value it gives, nearest first. */
  readonly values: readonly ColumnRef[];
  /** What each of these takes its value from, and how. */
  readonly forward: readonly Station[];
  /** Columns that it influences, and tables whose rows it decides. */
  readonly influenced: readonly ColumnRef[];
  readonly rows: readonly string[];
}

/** A text with a changed contract, or why it could not be changed. */
export type ContractAnswer = { readonly text: string } | { readonly problem: string };

export interface Completion {
  readonly label: string;
  readonly detail?: string;
  readonly kind: 'table' | 'column' | 'alias' | 'keyword' | 'function' | 'layer' | 'option';
  /** Text put in, where it is not the label. */
  readonly apply?: string;
}

export interface CompletionAnswer {
  readonly from: number;
  readonly options: readonly Completion[];
}

export type Request =
  | { readonly kind: 'open'; readonly files: Readonly<Record<string, string>> }
  /** `others` are files that would be kept together with this one. */
  | {
      readonly kind: 'edit';
      readonly path: string;
      readonly text: string;
      readonly others?: Readonly<Record<string, string>>;
      /** Desks and people, where owners have to be among them. */
      readonly owners?: readonly string[];
    }
  | { readonly kind: 'contract'; readonly path: string; readonly text: string; readonly edits: readonly ContractEdit[] }
  | { readonly kind: 'complete'; readonly path: string; readonly text: string; readonly offset: number }
  | ({ readonly kind: 'trace' } & ColumnRef)
  /** What the drafts do together: `base` holds the texts without them, null where there is none. */
  | { readonly kind: 'drafts'; readonly base: Readonly<Record<string, string | null>> }
  /** What nothing in the project reads. */
  | { readonly kind: 'unread' }
  /** What the word at an offset means. */
  | { readonly kind: 'explain'; readonly path: string; readonly text: string; readonly offset: number }
  /** Which columns say what they mean. */
  | { readonly kind: 'coverage' }
  /** What a new name changes, in the files as they are saved. */
  | { readonly kind: 'rename'; readonly renaming: Renaming }
  /** The queries of a file in one layout. */
  | { readonly kind: 'format'; readonly path: string; readonly text: string }
  /** A step of a query as a definition of its own. */
  | { readonly kind: 'lift'; readonly lift: Lift }
  /** All places at which something is declared, made or read, in the files as they are saved. */
  | { readonly kind: 'uses'; readonly of: Named }
  /** What says something beside names. */
  | { readonly kind: 'find'; readonly search: string }
  /** What would become of files of some names. */
  | { readonly kind: 'tryNames'; readonly names: readonly string[] }
  /** A view's query within its one reader. */
  | { readonly kind: 'inline'; readonly view: string };

/** A text in another layout, or why it stays as it is. */
export type FormatAnswer = { readonly text: string } | { readonly problem: string };

export interface Answers {
  readonly open: ProjectSummary;
  readonly edit: EditAnswer;
  readonly contract: ContractAnswer;
  readonly complete: CompletionAnswer | null;
  readonly explain: Explained | null;
  readonly coverage: readonly Coverage[];
  readonly rename: Renamed;
  readonly lift: Lifted;
  readonly format: FormatAnswer;
  readonly inline: Inlined;
  readonly uses: Uses;
  readonly tryNames: readonly TriedName[];
  readonly find: readonly Found[];
  /** Null where there is no such column. */
  readonly trace: TraceAnswer | null;
  readonly drafts: EditImpact;
  readonly unread: Unread;
}
