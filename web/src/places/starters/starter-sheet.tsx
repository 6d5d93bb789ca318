import { useDraftReason } from '../../data/use-draft-reason';
import { skipToken } from '@reduxjs/toolkit/query';
import { useEffect, useState, type ReactNode } from 'react';
import { useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useDescribeQuery } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import { Sql } from '../../shared/diff';
import { useKeepFiles } from '../../shared/proposal';
import { inputClass } from '../../shared/ui/input';
import { Button } from '../../shared/ui/button';
import { useTell } from '../../shared/toasts';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';
import type { PlacedDiagnostic } from '../../worker/protocol';
import { PreviewPanel } from '../tables/preview-panel';
import { usePreview } from '../tables/use-preview';

/** A query that a starter wrote, and the name that it suggests for its table. */
export interface StarterQuery {
  readonly name: string;
  /** The text, where the table's full name is in it as a function of that, and of the full names of the sheet's other tables. */
  readonly sql: string | ((fullName: string, full: (name: string) => string) => string);
}

/** The choices of a starter on the left, the SQL that they make on the right, its rows below. */
export function StarterSheet({
  title,
  queries,
  wants,
  layer: suggested = 'staging',
  children,
}: {
  title: string;
  queries: readonly StarterQuery[];
  /** What is still missing for a query. */
  wants?: string | undefined;
  layer?: string;
  children: ReactNode;
}) {
  const { slug, summary, paths } = useProject();
  const navigate = useNavigate();
  const { keep, keeping } = useKeepFiles();
  const layers = summary.layers.map((l) => l.name).filter((l) => !['landing', 'reference'].includes(l));
  const [chosenLayer, setLayer] = useState<string>();
  const layer = chosenLayer ?? (layers.includes(suggested) ? suggested : layers[0]) ?? 'staging';
  const [names, setNames] = useState<Readonly<Record<number, string>>>({});
  const nameOf = (i: number) => names[i] ?? queries[i]?.name ?? '';
  const fullName = (i: number) => `${layer}.${nameOf(i)}`;
  const pathOf = (i: number) => `${layer}/${nameOf(i)}.sql`;
  const [open, setOpen] = useState(0);
  const shown = Math.min(open, queries.length - 1);
  const sqlOf = (i: number) => {
    const sql = queries[i]?.sql ?? '';
    return typeof sql === 'string'
      ? sql
      : sql(fullName(i), (name) => fullName(queries.findIndex((q) => q.name === name)));
  };
  const query = queries[shown] && { sql: sqlOf(shown) };
  const others = Object.fromEntries(queries.flatMap((_, i) => (i === shown ? [] : [[pathOf(i), sqlOf(i)]])));
  const problems = useDiagnostics(query ? pathOf(shown) : undefined, query?.sql, others);
  const preview = usePreview(pathOf(shown), () => undefined);
  // What reads another table of this sheet can be asked of the database only when that one is kept.
  const dependent = query !== undefined && queries.some((_, i) => i !== shown && query.sql.includes(fullName(i)));
  const types = useTypes(
    query && problems.length === 0 && !dependent ? { path: pathOf(shown), text: query.sql } : undefined,
  );

  const wrongName = queries.map((_, i) => nameProblem(nameOf(i), pathOf(i), paths)).find((p) => p !== undefined);
  const twice =
    new Set(queries.map((_, i) => nameOf(i))).size < queries.length ? 'Two tables have the same name.' : undefined;
  const refused = useDraftReason() ?? wants ?? wrongName ?? twice;
  const store = async () => {
    const kept = await keep(queries.map((_, i) => ({ path: pathOf(i), after: sqlOf(i) })));
    if (kept) await navigate(address.table(slug, `${layer}.${nameOf(0)}`));
  };
  return (
    <div className="flex min-w-0 flex-1">
      <section aria-label={title} className="flex min-w-0 flex-1 flex-col gap-4 overflow-auto p-4">
        <h2 className="sheet-title border-b border-line pb-1">{title}</h2>
        {children}
      </section>
      <section aria-label="The SQL" className="flex w-115 shrink-0 flex-col border-l border-line bg-sheet">
        <div className="flex flex-wrap items-end gap-2 border-b border-line px-3 py-2">
          <label className="flex flex-col text-small">
            layer
            <select value={layer} onChange={(e) => setLayer(e.target.value)} className={`${inputClass} w-24!`}>
              {layers.map((l) => (
                <option key={l}>{l}</option>
              ))}
            </select>
          </label>
          {/* Many names would leave no room: the one of the shown table is enough. */}
          {queries.map((_, i) => (
            <label key={i} className={`flex flex-col text-small ${queries.length > 3 && i !== shown ? 'hidden' : ''}`}>
              {queries.length > 1 ? `table ${i + 1}` : 'table'}
              <input
                value={nameOf(i)}
                onFocus={() => setOpen(i)}
                onChange={(e) => setNames({ ...names, [i]: e.target.value })}
                className={`${inputClass} w-36! font-mono text-small`}
              />
            </label>
          ))}
          <span className="flex-1" />
          <Button
            disabled={!query}
            {...(dependent ? { reason: 'It reads another table of this sheet: save the drafts first.' } : {})}
            onClick={() => query && preview.run(query.sql)}
          >
            Preview
          </Button>
          <Button
            tone="act"
            disabled={keeping || queries.length === 0}
            {...(refused ? { reason: refused } : {})}
            onClick={() => void store()}
          >
            Save {queries.length > 1 ? 'drafts' : 'draft'}
          </Button>
        </div>
        {queries.length > 1 && (
          <div role="group" aria-label="Queries" className="flex flex-wrap gap-1 border-b border-line px-3.5 py-1">
            {queries.map((_, i) => (
              <button
                key={i}
                type="button"
                aria-pressed={i === shown}
                onClick={() => setOpen(i)}
                className={`rounded-edge px-2 font-mono text-small ${i === shown ? 'bg-wash text-plan' : 'hover:bg-raised'}`}
              >
                {nameOf(i)}
              </button>
            ))}
          </div>
        )}
        <div className="max-h-5/11 shrink-0 overflow-auto px-3.5 py-2">
          {query ? (
            <Sql text={query.sql} label="SQL of the definition" />
          ) : (
            <p className="text-soft">{wants ?? 'Choose what the query is made from.'}</p>
          )}
          {refused && queries.length > 0 && <p className="pt-1 text-small text-advisory-text">{refused}</p>}
          {problems.map((p, i) => (
            <p key={i} role="alert" className="pt-1 text-small text-broken">
              {p.message}
              {p.hint ? `; ${p.hint}` : ''} (line {p.line})
            </p>
          ))}
          {types.problem && (
            <p role="alert" className="pt-1 text-small text-broken">
              {types.problem.title}
              {types.line === undefined ? '' : ` (line ${types.line})`}
            </p>
          )}
          {types.columns && (
            <p className="pt-1 text-small text-soft">{types.columns.map((c) => `${c.name} ${c.type}`).join(', ')}</p>
          )}
        </div>
        <div className="min-h-0 flex-1 border-t border-line">
          <PreviewPanel preview={preview} table={nameOf(shown)} />
        </div>
      </section>
    </div>
  );
}

function nameProblem(name: string, path: string, paths: readonly string[]): string | undefined {
  if (!/^[a-z_][a-z0-9_]*$/.test(name))
    return 'A table’s name has lower-case letters, digits and underscores, and begins with a letter.';
  return paths.includes(path) ? `${path} exists already: choose another name.` : undefined;
}

/** What the project says of the query, as it would of a file that is being typed. */
function useDiagnostics(
  path: string | undefined,
  sql: string | undefined,
  others: Readonly<Record<string, string>>,
): readonly PlacedDiagnostic[] {
  const around = JSON.stringify(others);
  const [found, setFound] = useState<{ sql: string; problems: readonly PlacedDiagnostic[] }>();
  const tell = useTell();
  useEffect(() => {
    if (path === undefined || sql === undefined) return;
    let current = true;
    const timer = setTimeout(
      () =>
        void projectWorker
          .ask<'edit'>({ kind: 'edit', path, text: sql, others: JSON.parse(around) as Record<string, string> })
          .then(
            (a) => current && setFound({ sql, problems: a.diagnostics.filter((d) => d.severity === 'error') }),
            (error: Error) => current && tell.problem(readerProblem(error)),
          ),
      150,
    );
    return () => {
      current = false;
      clearTimeout(timer);
    };
  }, [path, sql, around, tell]);
  return found?.sql === sql ? (found?.problems ?? []) : [];
}

interface Types {
  readonly columns?: readonly { readonly name: string; readonly type: string }[];
  readonly problem?: ProblemBody;
  readonly line?: number;
}

/** Columns and types as the database tells them a moment after the last change, or what it does not take. */
function useTypes(query: { readonly path: string; readonly text: string } | undefined): Types {
  const { slug } = useProject();
  const [settled, setSettled] = useState(query);
  const { path, text } = query ?? {};
  useEffect(() => {
    const timer = setTimeout(
      () => setSettled(path === undefined || text === undefined ? undefined : { path, text }),
      500,
    );
    return () => clearTimeout(timer);
  }, [path, text]);
  const current = settled !== undefined && settled.path === path && settled.text === text;
  const { currentData, error } = useDescribeQuery(current ? { slug, ...settled } : skipToken);
  if (!current) return {};
  const problem = error as ProblemBody | undefined;
  const line = (problem?.['error'] as { line?: number } | undefined)?.line;
  return {
    ...(currentData ? { columns: currentData } : {}),
    ...(problem ? { problem } : {}),
    ...(line === undefined ? {} : { line }),
  };
}
