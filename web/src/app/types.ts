import type { Verdict } from '@ouvrage/core/check';
import type { Drift } from '@ouvrage/core/intake';
import type { RowFilter } from '@ouvrage/core/look';
import type { Profile } from '@ouvrage/core/model';
import type { Loss, Migration } from '@ouvrage/core/review';

/** The answers of the server, as the interface reads them. */
export interface Person {
  readonly name: string;
  readonly displayName: string;
  readonly role: 'viewer' | 'editor' | 'releaser' | 'administrator';
}

export interface SessionAnswer {
  readonly person: Person | null;
  readonly csrf: string | null;
}

export interface WorkspaceEntry {
  readonly slug: string;
  readonly name: string;
  readonly owner: string;
  readonly createdAt: string;
  readonly prefix: string;
  readonly drafts: number;
}

export interface DraftEntry {
  readonly path: string;
  readonly text: string | null;
  readonly version: number;
  readonly by: string;
  readonly at: string;
  readonly isNew: boolean;
}

export interface FilesAnswer {
  readonly project: string;
  readonly slug: string;
  readonly name: string;
  readonly commit: string;
  readonly files: Readonly<Record<string, string>>;
  readonly drafts: readonly DraftEntry[];
}

export interface Commit {
  readonly id: string;
  readonly author: string;
  readonly at: string;
  readonly message: string;
}

export interface Rows {
  /** `standIn` says why a column holds what stands for values that loads would give. */
  readonly columns: readonly { readonly name: string; readonly type: string; readonly standIn?: string }[];
  readonly rows: readonly (readonly (string | null)[])[];
  readonly total: number | null;
  readonly milliseconds: number;
  readonly sql: string;
  readonly inlined: readonly string[];
  /** Whether more rows would make more than an answer holds, so that fewer are shown than asked for. */
  readonly isFull: boolean;
  /** The input of which only a sample was read. */
  readonly sampled?: string;
}

export interface PreviewSample {
  readonly table: string;
  readonly share?: number;
  readonly by?: readonly string[];
  readonly each?: number;
}

/** Which rows and columns of a table a person looks at. */
export interface Look {
  readonly show: readonly string[];
  readonly filters: readonly RowFilter[];
  readonly sort: readonly { readonly column: string; readonly descending: boolean }[];
}

export interface PageAnswer {
  readonly columns: readonly { readonly name: string; readonly type: string }[];
  readonly rows: readonly (readonly (string | null)[])[];
  readonly next: readonly (string | null)[] | null;
  readonly total: { readonly rows: number; readonly exact: boolean } | null;
  readonly milliseconds: number;
  readonly where: 'here' | 'production' | 'nowhere';
}

export interface ProfileAnswer extends Profile {
  readonly where: 'here' | 'production' | 'nowhere';
  readonly share: number;
  readonly estimatedRows: number;
  readonly milliseconds: number;
}

export interface CheckState {
  readonly id: string;
  readonly kind: string;
  readonly title: string;
  readonly table: string;
  readonly columns: readonly string[];
  readonly advisory: boolean;
  readonly tolerate: string | null;
  readonly comment: string | null;
  readonly verdict: Verdict;
  readonly atFault: string | null;
  readonly total: string | null;
  readonly at: string | null;
  readonly run: number | null;
  readonly environment: string | null;
}

export interface TableState {
  readonly table: string;
  readonly where: 'here' | 'production' | 'nowhere';
  readonly rows: string | null;
  readonly loadedAt: string | null;
  readonly run: number | null;
  readonly verdict: Verdict;
}

export interface StateAnswer {
  readonly tables: readonly TableState[];
  readonly checks: readonly CheckState[];
}

export interface FaultRows {
  readonly columns: readonly string[];
  readonly rows: readonly (readonly (string | null)[])[];
}

export interface CheckResult {
  readonly environment: string;
  readonly verdict: Verdict;
  readonly atFault: string | null;
  readonly total: string | null;
  readonly at: string;
  readonly run: number;
  readonly sql: string;
  readonly rows: FaultRows | null;
}

export type RunState = 'queued' | 'running' | 'succeeded' | 'failed' | 'stopped' | 'interrupted';
export type StepState = 'waiting' | 'running' | 'done' | 'failed' | 'blocked' | 'stopped' | 'reused' | 'interrupted';

export interface RunEntry {
  readonly id: number;
  readonly kind: 'build' | 'intake' | 'release';
  readonly environment: string;
  readonly commit: string;
  readonly state: RunState;
  readonly person: string;
  readonly tables: readonly string[];
  readonly upstream: boolean;
  readonly downstream: boolean;
  readonly parallelism: number;
  readonly parameters: Readonly<Record<string, string>>;
  readonly error: string | null;
  readonly continues: number | null;
  readonly createdAt: string;
  readonly startedAt: string | null;
  readonly finishedAt: string | null;
}

export interface StepError {
  readonly message: string;
  readonly detail?: string;
  readonly hint?: string;
  readonly sqlstate?: string;
  readonly path?: string;
  readonly line?: number;
  readonly column?: number;
  /** The rows that caused it. */
  readonly rows?: FaultRows;
}

/** What a load did: rows by kind. */
export type LoadCounts = Readonly<Record<string, number>>;

export interface StepEntry {
  readonly id: number;
  readonly kind: 'load' | 'check' | 'intake';
  readonly table: string;
  readonly state: StepState;
  readonly waitsFor: readonly string[];
  readonly rowsOut: string | null;
  readonly rowsIn: string | null;
  readonly counts: LoadCounts | null;
  /** Why the load changed its table in place, or wrote it anew. */
  readonly note: string | null;
  readonly error: StepError | null;
  readonly startedAt: string | null;
  readonly finishedAt: string | null;
  readonly checks: readonly { readonly id: string; readonly verdict: Verdict; readonly atFault: string | null; readonly total: string | null }[];
}

export interface RunDetail extends RunEntry {
  readonly steps: readonly StepEntry[];
}

export interface StepDetail extends StepEntry {
  /** Some rows of each kind that the load counted. */
  readonly kinds: Readonly<Record<string, FaultRows>> | null;
  readonly statements: readonly { readonly kind: string; readonly sql: string; readonly milliseconds: number | null; readonly rows: number | null }[];
  readonly results: readonly {
    readonly id: string;
    readonly verdict: Verdict;
    readonly atFault: string | null;
    readonly total: string | null;
    readonly sql: string;
    readonly rows: FaultRows | null;
  }[];
}

export interface LoadEntry {
  readonly run: number;
  readonly state: StepState;
  readonly rowsIn: string | null;
  readonly rowsOut: string | null;
  readonly counts: LoadCounts | null;
  readonly startedAt: string | null;
  readonly finishedAt: string | null;
  readonly error: StepError | null;
  readonly environment: string;
  readonly commit: string;
  readonly kind: string;
  readonly person: string;
}

export interface SourceSystem {
  readonly server: string;
  readonly wrapper: string;
  readonly path: string;
  readonly connection: { readonly host: string; readonly port: number; readonly database: string; readonly user: string } | null;
  readonly tables: readonly {
    readonly table: string;
    readonly comment: string | null;
    readonly where: TableState['where'];
    readonly rows: string | null;
    readonly loadedAt: string | null;
    readonly incremental: boolean;
    /** The names of files that it takes. */
    readonly pattern: string | null;
    /** Declared as production has it: then it is brought into production, and workspaces read it from there. */
    readonly sameAsProduction: boolean;
    readonly drift: Drift | null;
    readonly comparedAt: string | null;
    readonly newest: string | null;
    readonly lateness: { readonly late: boolean; readonly since: string | null; readonly allowed: string } | null;
    readonly last: {
      readonly state: StepState;
      readonly rowsOut: string | null;
      readonly rowsIn: string | null;
      readonly at: string;
      readonly error: StepError | null;
      readonly run: number;
      readonly milliseconds: number | null;
    } | null;
  }[];
}

export type TlsMode = 'off' | 'encrypted' | 'verified';
export type BoundEnvironment = 'production' | 'workspaces';

/** A connection without its secret. */
export interface ConnectionEntry {
  readonly id: string;
  readonly name: string;
  readonly host: string;
  readonly port: number;
  readonly database: string;
  readonly user: string;
  readonly tls: TlsMode;
  readonly bound: readonly { readonly server: string; readonly environment: BoundEnvironment }[];
}

/** What a person types; without a password the kept one stays. */
export interface ConnectionInput extends Omit<ConnectionEntry, 'id' | 'bound'> {
  readonly password?: string;
}

export type ConnectionTest =
  | { readonly ok: true; readonly version: string; readonly tables: number }
  | { readonly ok: false; readonly part: string; readonly message: string; readonly remedy: string };

export interface CatalogEntry {
  readonly schema: string;
  readonly name: string;
  readonly kind: 'table' | 'view';
  readonly comment: string | null;
  readonly rows: number | null;
  readonly columns: number;
  readonly declared: string | null;
}

/** What of the deliveries is asked for. */
export interface DeliverySearch {
  readonly search?: string;
  readonly state?: DeliveryEntry['state'];
  /** The last delivery of the page before. */
  readonly before?: number;
}

export interface DeliveryEntry {
  readonly id: number;
  readonly file: string;
  readonly table: string | null;
  readonly state: 'loaded' | 'empty' | 'repeated' | 'failed' | 'unknown';
  readonly bytes: string;
  readonly rows: string | null;
  readonly rejects: string | null;
  readonly reason: string | null;
  readonly at: string;
  readonly milliseconds: number | null;
}

export interface ProposedFile {
  readonly path: string;
  readonly before: string | null;
  readonly after: string;
}

export interface TableChange {
  readonly kind: 'new' | 'renamed' | 'changed' | 'downstream' | 'deleted';
  /** Of a renamed table: its former name. */
  readonly was?: string;
  readonly table: string;
  readonly columnsAdded: readonly string[];
  readonly columnsDropped: readonly string[];
  readonly columnsRetyped: readonly string[];
}

export interface FileConflict {
  readonly path: string;
  readonly mine: string | null;
  readonly theirs: string | null;
}

export interface Comparison {
  readonly workspace: { readonly slug: string; readonly name: string; readonly owner: string };
  readonly commits: readonly Commit[];
  readonly drafts: readonly string[];
  readonly conflicts: readonly FileConflict[];
  readonly errors: readonly { readonly path: string; readonly message: string }[];
  readonly files: readonly {
    readonly path: string;
    readonly kind: 'new' | 'changed' | 'deleted';
    readonly draft: boolean;
    readonly before: string | null;
    readonly after: string | null;
  }[];
  readonly tables: readonly TableChange[];
  /** Tables, and columns of tables that keep rows, which the release drops for good. */
  readonly losses: readonly Loss[];
  /** Tables that keep rows and whose definition changed. */
  readonly migrations: readonly Migration[];
  /** Tables whose hashes the release makes anew, and those that hold their keys. */
  readonly rehashes: readonly { readonly table: string; readonly columns: readonly string[]; readonly facts: readonly string[] }[];
  readonly untouched: number;
  readonly checks: readonly CheckState[];
}

export interface ReleaseEntry {
  readonly id: number;
  readonly commit: string;
  readonly workspace: string;
  readonly message: string;
  readonly person: string;
  readonly tables: readonly string[];
  readonly runId: number;
  readonly at: string;
}

export interface TodayAnswer {
  /** For administrators: servers that are declared and bound to no connection. */
  readonly toBind: readonly { readonly server: string; readonly workspaces: readonly string[] }[];
  readonly failedFiles: readonly { readonly file: string; readonly reason: string | null; readonly at: string }[];
  readonly late: readonly { readonly table: string; readonly since: string | null; readonly allowed: string }[];
  readonly drifted: readonly string[];
  readonly broken: readonly CheckState[];
  readonly advisory: readonly CheckState[];
  readonly failedRuns: readonly RunEntry[];
  readonly drafts: readonly { readonly path: string; readonly by: string; readonly at: string }[];
  readonly errors: readonly { readonly path: string; readonly message: string; readonly line: number; readonly column: number }[];
  readonly tables: { readonly all: number; readonly notRun: number };
  readonly lastRelease: ReleaseEntry | null;
  readonly lastRun:
    | (RunEntry & {
        readonly steps: readonly { readonly table: string; readonly state: StepState; readonly rowsIn: string | null; readonly milliseconds: number | null }[];
      })
    | null;
}

export interface AuditEntry {
  readonly id: string;
  readonly at: string;
  readonly person: string;
  readonly action: string;
  readonly subject: string;
  readonly detail: Readonly<Record<string, unknown>> | null;
}

export interface AccessToken {
  readonly id: string;
  readonly label: string;
  readonly createdAt: string;
  readonly lastUsedAt: string | null;
}

/** An error of the server (RFC 9457). */
export interface ProblemBody {
  readonly code: string;
  readonly status: number;
  readonly title: string;
  readonly detail?: string;
  readonly [extra: string]: unknown;
}
