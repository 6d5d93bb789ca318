import type { ChangedCheck, Verdict } from '@ouvrage/core/check';
import type { Instant } from './instant.js';
import type { IncidentEntry } from './incident.js';
import type { Commit, FileConflict } from './project.js';
import type { CheckState } from './quality.js';
import type { ReleasedReview } from './review.js';
import type { RunEntry, RunState, StepState } from './run.js';
import type { Loss, Migration, RestoredTable } from '@ouvrage/core/review';

export interface TableChange {
  readonly kind: 'new' | 'renamed' | 'changed' | 'downstream' | 'deleted';
  /** Of a renamed table: its former name. */
  readonly was?: string;
  readonly table: string;
  readonly columnsAdded: readonly string[];
  readonly columnsDropped: readonly string[];
  /** Columns that bear another name: neither added nor dropped. */
  readonly columnsRenamed: readonly { readonly was: string; readonly now: string }[];
  readonly columnsRetyped: readonly string[];
}

/** What a workspace's changes do elsewhere: what breaks, whose values may change, whose rows may be others. */
export interface ChangeImpact {
  readonly breaks: readonly {
    readonly path: string;
    readonly line: number;
    readonly column: number;
    readonly message: string;
  }[];
  readonly values: readonly { readonly table: string; readonly column: string }[];
  readonly rows: readonly string[];
}

/** What a release takes, as the last loads in production say. */
export interface ReleaseCost {
  /** How long the tables that it builds took to load the last time, one after the other. */
  readonly seconds: number;
  /** Tables of these that production has never loaded. */
  readonly untimed: number;
  /** Bytes of the tables that it makes beside the old ones, as the old ones are. */
  readonly bytes: number;
  /** Bytes that are free; null where that is not known. */
  readonly free: number | null;
}

/** How production goes back by the copies that releases have kept. */
export interface RestorePlan {
  /** The releases that it takes back, the first one first. */
  readonly releases: readonly number[];
  readonly tables: readonly (RestoredTable & {
    /** Rows of the copy; null where there is none, or nobody has counted them. */
    readonly rows: string | null;
    /** Bytes of the copy with what is remembered beside it; null where there is none. */
    readonly bytes: number | null;
  })[];
}

/** What releases have kept of production. */
export interface KeptCopies {
  /** For how many days copies are kept; 0 where none are made. */
  readonly days: number;
  readonly bytes: number;
  readonly releases: readonly {
    readonly id: number;
    readonly message: string;
    readonly tables: readonly string[];
    readonly bytes: number;
    /** When they are dropped. */
    readonly until: Instant;
  }[];
}

export interface Comparison {
  readonly workspace: { readonly slug: string; readonly name: string; readonly owner: string };
  readonly commits: readonly Commit[];
  /** A way back: the releases that its release withdraws. */
  readonly withdraws: readonly number[];
  /** A way back by kept copies: what comes back; null of all other workspaces. */
  readonly restores: RestorePlan | null;
  /** Withdrawn releases whose changes the workspace still holds: its release brings them again. */
  readonly holdsWithdrawn: readonly number[];
  readonly drafts: readonly string[];
  readonly conflicts: readonly FileConflict[];
  readonly errors: readonly { readonly path: string; readonly message: string }[];
  readonly files: readonly {
    readonly path: string;
    readonly kind: 'new' | 'changed' | 'deleted';
    readonly draft: boolean;
  }[];
  readonly tables: readonly TableChange[];
  /** Tables, and columns of tables that keep rows, which the release drops. */
  readonly losses: readonly Loss[];
  /** For how many days what a release replaces or drops can be restored; 0 where nothing is kept. */
  readonly keptDays: number;
  /** Tables that keep rows and whose definition changed. */
  readonly migrations: readonly Migration[];
  /** Tables whose hashes the release makes again, and those that hold their keys. */
  readonly rehashes: readonly {
    readonly table: string;
    readonly columns: readonly string[];
    readonly facts: readonly string[];
  }[];
  readonly untouched: number;
  readonly cost: ReleaseCost;
  readonly impact: ChangeImpact;
  /** Columns that are sensitive in production, and would be no more: viewers will see them. */
  readonly freed: readonly string[];
  /** Checks that are new, changed or deleted, with what was last found of each here. */
  readonly checks: readonly { readonly change: ChangedCheck['change']; readonly check: CheckState }[];
  /** How many of the checks of these tables have each verdict. */
  readonly verdicts: Readonly<Record<Verdict, number>>;
}

/** A file in production and in a workspace; null where it is not. */
export interface ComparedTexts {
  readonly before: string | null;
  readonly after: string | null;
}

export interface ReleaseEntry {
  readonly id: number;
  readonly commit: string;
  readonly workspace: string;
  readonly message: string;
  readonly person: string;
  readonly tables: readonly string[];
  readonly runId: number;
  readonly at: Instant;
  /** Null of releases before there were reviews. */
  readonly review: ReleasedReview | null;
  /** A way back: the releases that it withdrew, the first one first. */
  readonly withdraws: readonly number[];
}

/** A workspace that goes back. */
export interface WayBack {
  readonly slug: string;
}

/** One release with what it changed and did. */
export interface ReleaseDetail extends ReleaseEntry {
  /** Whether there was anything before it. */
  readonly canGoBack: boolean;
  readonly files: readonly { readonly path: string; readonly kind: 'new' | 'changed' | 'deleted' }[];
  /** Each table that it loaded, with what the load did. */
  readonly loads: readonly {
    readonly table: string;
    readonly rows: string | null;
    /** Rows by kind, such as added or changed. */
    readonly counts: Readonly<Record<string, number>> | null;
  }[];
  /** How many of the checks that it ran have each verdict. */
  readonly checks: Readonly<Record<Verdict, number>>;
}

/** A file before and after a release. */
export interface ReleasedTexts extends ComparedTexts {
  /** Who wrote each line of the text after it. */
  readonly authors: readonly string[];
}

export interface SourceAge {
  readonly table: string;
  /** Seconds; null where nothing was ever brought in. */
  readonly age: number | null;
  /** Seconds after which it is late. */
  readonly allowed: number;
  readonly late: boolean;
}

/** How far a person has come on the way to the first released table. */
export interface FirstSteps {
  /** The workspace that is looked at; null where the person has none. */
  readonly workspace: string | null;
  readonly connected: boolean;
  readonly broughtIn: boolean;
  readonly defined: boolean;
  readonly run: boolean;
}

export interface TodayAnswer {
  /** Null once production has a table of its own. */
  readonly firstSteps: FirstSteps | null;
  /** Incidents that are not closed. */
  readonly incidents: readonly IncidentEntry[];
  /** For administrators: servers that are declared and bound to no connection. */
  readonly toBind: readonly { readonly server: string; readonly workspaces: readonly string[] }[];
  readonly failedFiles: readonly { readonly file: string; readonly reason: string | null; readonly at: Instant }[];
  readonly late: readonly { readonly table: string; readonly since: string | null; readonly allowed: string }[];
  readonly drifted: readonly string[];
  readonly broken: readonly CheckState[];
  readonly advisory: readonly CheckState[];
  readonly failedRuns: readonly RunEntry[];
  readonly drafts: readonly { readonly path: string; readonly by: string; readonly at: Instant }[];
  readonly errors: readonly {
    readonly path: string;
    readonly message: string;
    readonly line: number;
    readonly column: number;
  }[];
  readonly tables: { readonly all: number; readonly notRun: number };
  /** The newest ones, at most three. */
  readonly releases: readonly Pick<ReleaseEntry, 'id' | 'message' | 'person' | 'at' | 'runId'>[];
  /** How old the newest row of each source table is that says when it is late, the latest of them first. */
  readonly sources: readonly SourceAge[];
  /** Reviews that were asked for and that the person may approve or decline, the newest first. */
  readonly reviews: readonly {
    readonly slug: string;
    readonly name: string;
    readonly by: string;
    readonly at: Instant;
  }[];
  /** The person's own workspaces. */
  readonly yours: readonly {
    readonly slug: string;
    readonly name: string;
    readonly drafts: number;
    /** Commits that production does not have. */
    readonly commits: number;
  }[];
  /** Runs of the whole environment, the oldest of the newest 21 first. */
  readonly builds: readonly {
    readonly id: number;
    readonly state: RunState;
    readonly at: Instant;
    readonly milliseconds: number;
  }[];
  /** The newest run of the whole environment; of some of its tables, where there was none. */
  readonly lastRun:
    | (RunEntry & {
        readonly steps: readonly {
          readonly table: string;
          readonly state: StepState;
          readonly rowsIn: string | null;
          readonly milliseconds: number | null;
        }[];
      })
    | null;
}
