import { PRODUCTION } from './person';
import { createContext, useContext, useEffect, useMemo, useState, type ReactNode } from 'react';
import { useParams } from 'react-router';
import type { ProjectSummary, TableSummary } from '../worker/protocol';
import { readerProblem } from '../worker/channel';
import { projectWorker } from '../worker/client';
import { address } from './addresses';
import { useFilesQuery } from './workspaces';
import { useStateQuery } from './quality';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { DraftEntry } from '@ouvrage/api/project';
import type { CheckState, StateAnswer, TableState } from '@ouvrage/api/quality';

/** The project of the workspace in the address: its files, what they mean, and its state. */
export interface ProjectView {
  /** Tells this project from others. */
  readonly project: string;
  readonly slug: string;
  readonly name: string;
  readonly isProduction: boolean;
  /** Whose the workspace is, where it is not shared with who is signed in. */
  readonly keptBy: string | null;
  readonly commit: string;
  readonly summary: ProjectSummary;
  /** Whether files have changed that the summary does not know yet: its places in texts are those of before. */
  readonly isBehind: boolean;
  readonly tables: ReadonlyMap<string, TableSummary>;
  /** The position of a table's layer; of one that is gone, by its name; -1 where there is none. */
  readonly layerPosition: (table: string) => number;
  readonly states: ReadonlyMap<string, TableState>;
  readonly checks: readonly CheckState[];
  readonly drafts: ReadonlyMap<string, DraftEntry>;
  /** The text of a file with its draft; undefined where there is none. */
  readonly textOf: (path: string) => string | undefined;
  /** The text of a file without its draft; undefined where the commit has none. */
  readonly committedTextOf: (path: string) => string | undefined;
  readonly paths: readonly string[];
}
const Context = createContext<ProjectView | undefined>(undefined);

export function useProject(): ProjectView {
  const view = useContext(Context);
  if (!view) throw new Error('outside a workspace');
  return view;
}

/** Where a place of a file is looked at: on the bench of the one table that the file declares, else as a file. */
export function placeAddress(
  { slug, summary }: ProjectView,
  { path, line, column = 1 }: { path: string; line?: number; column?: number },
): string {
  const tables = summary.tables.filter((t) => t.path === path);
  const sheet = tables.length === 1 ? address.table(slug, tables[0]!.fullName) : address.file(slug, path);
  return line === undefined ? sheet : `${sheet}?at=${line}.${column}`;
}

/** Loads the project of a workspace; children see it once it is read. */
export function ProjectProvider({
  children,
  loading,
  failed,
}: {
  children: ReactNode;
  loading: ReactNode;
  failed: (problem: ProblemBody, again: () => void) => ReactNode;
}) {
  const slug = useParams()['ws'] ?? PRODUCTION;
  const files = useFilesQuery(slug);
  const state = useStateQuery(slug);
  const [read, setRead] = useState<{ key: unknown; texts: unknown; summary: ProjectSummary }>();
  const [fault, setFault] = useState<ProblemBody>();
  const [attempt, setAttempt] = useState(0);
  const texts = useMemo(() => (files.data ? withDrafts(files.data.files, files.data.drafts) : undefined), [files.data]);

  useEffect(() => {
    if (!texts) return;
    let current = true;
    setFault(undefined);
    void projectWorker.ask<'open'>({ kind: 'open', files: texts }).then(
      (summary) => current && setRead({ key: slug, texts, summary }),
      (error: Error) => current && setFault(readerProblem(error)),
    );
    return () => {
      current = false;
    };
  }, [texts, slug, attempt]);

  const view = useMemo((): ProjectView | undefined => {
    if (!files.data || !texts || read?.key !== slug) return undefined;
    const tables = new Map(read.summary.tables.map((t) => [t.fullName, t]));
    return {
      project: files.data.project,
      slug,
      name: files.data.name,
      isProduction: slug === PRODUCTION,
      keptBy: files.data.keptBy,
      commit: files.data.commit,
      summary: read.summary,
      isBehind: read.texts !== texts,
      tables,
      layerPosition: (table) =>
        read.summary.layers.findIndex((l) => l.name === (tables.get(table)?.layer ?? table.split('.')[0])),
      states: new Map(state.data?.tables.map((t) => [t.table, t])),
      checks: checksOf(read.summary, state.data),
      drafts: new Map(files.data.drafts.map((d) => [d.path, d])),
      textOf: (path) => texts[path],
      committedTextOf: (path) => files.data?.files[path],
      paths: Object.keys(texts).sort(),
    };
  }, [files.data, texts, read, slug, state.data]);

  if (files.error) return failed(files.error as ProblemBody, () => void files.refetch());
  if (!view && fault !== undefined) return failed(fault, () => setAttempt((n) => n + 1));
  if (!view) return loading;
  return <Context.Provider value={view}>{children}</Context.Provider>;
}

/** The project's checks with what was last found of each. */
function checksOf({ checks }: ProjectSummary, state: StateAnswer | undefined): CheckState[] {
  const found = new Map(state?.checks.map((c) => [c.id, c]));
  return checks.map((c) => ({
    id: c.id,
    kind: c.kind,
    title: c.title,
    table: c.concerns,
    columns: c.kind === 'query' ? [] : c.columns,
    advisory: c.advisory,
    tolerate: c.tolerate
      ? c.tolerate.kind === 'count'
        ? `${c.tolerate.count} rows`
        : `${c.tolerate.share * 100} %`
      : null,
    comment: c.comment ?? null,
    ...(found.get(c.id) ?? { verdict: 'not run', atFault: null, total: null, at: null, run: null, environment: null }),
  }));
}

function withDrafts(files: Readonly<Record<string, string>>, drafts: readonly DraftEntry[]): Record<string, string> {
  const all: Record<string, string> = { ...files };
  for (const { path, text } of drafts) {
    if (text === null) delete all[path];
    else all[path] = text;
  }
  return all;
}
