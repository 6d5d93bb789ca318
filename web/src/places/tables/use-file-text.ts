import { skipToken } from '@reduxjs/toolkit/query';
import { useCallback, useEffect, useMemo, useState } from 'react';
import { useReceiversQuery } from '../../data/messages';
import { useKeepDraftMutation } from '../../data/workspaces';
import { useValidateQuery } from '../../data/rows';
import { useProject } from '../../data/project';
import { useDraftReason } from '../../data/use-draft-reason';
import { textTyped, useAppDispatch, useAppSelector } from '../../data/store';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { DraftEntry } from '@ouvrage/api/project';
import { useTell } from '../../shared/toasts';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';
import type { EditAnswer, PlacedDiagnostic } from '../../worker/protocol';

/** Both texts of a file that two people changed. */
export interface DraftConflict {
  readonly mine: string;
  readonly theirs: string | null;
  readonly by: string;
  readonly version: number;
}

/**
 * The text of one file while it is being edited: typed text outlives a change of place, is answered
 * by the worker at each keystroke, and is kept as a draft on demand.
 */
export function useFileText(path: string) {
  const { slug, textOf, drafts } = useProject();
  const tell = useTell();
  const dispatch = useAppDispatch();
  const key = `${slug}:${path}`;
  const typed = useAppSelector((s) => s.interface.typed[key]);
  const [keepDraft, { isLoading: keeping }] = useKeepDraftMutation();
  const { data: receivers } = useReceiversQuery();
  // Without any desk, owners are only words.
  const owners = useMemo(
    () =>
      receivers?.desks.length
        ? [...receivers.desks.map((d) => d.name), ...receivers.people.flatMap((p) => [p.displayName, p.name])]
        : undefined,
    [receivers],
  );
  const [answer, setAnswer] = useState<EditAnswer>();
  const [conflict, setConflict] = useState<DraftConflict>();
  const keptText = textOf(path) ?? '';
  const text = typed?.text ?? keptText;
  const draft = drafts.get(path);
  // The version that this text was begun from: another person's newer one must not be overwritten.
  const base = typed?.base ?? draft?.version ?? 0;

  useEffect(() => {
    let current = true;
    const ask = () =>
      projectWorker.ask<'edit'>({ kind: 'edit', path, text, ...(owners ? { owners } : {}) }).then(
        (a) => current && setAnswer(a),
        (error: Error) => current && tell.problem(readerProblem(error)),
      );
    const timer = setTimeout(() => void ask(), 40);
    return () => {
      current = false;
      clearTimeout(timer);
    };
  }, [path, text, keptText, owners, tell]);

  const whyReadOnly = useDraftReason('change definitions');
  const readOnly = whyReadOnly !== undefined;
  const changed = typed !== undefined || draft !== undefined;
  const sound =
    /\.sql$/.test(path) &&
    !readOnly &&
    changed &&
    answer !== undefined &&
    !answer.diagnostics.some((d) => d.severity === 'error');
  const ofDatabase = useDatabaseProblems(path, text, sound);
  const diagnostics = useMemo(() => [...(answer?.diagnostics ?? []), ...ofDatabase], [answer, ofDatabase]);

  const setText = useCallback(
    (next: string) => dispatch(textTyped({ key, typed: next === keptText ? null : { text: next, base } })),
    [dispatch, key, keptText, base],
  );

  const store = useCallback(
    async (next: string, version: number): Promise<DraftEntry | undefined> => {
      try {
        const kept = await keepDraft({ slug, path, text: next, version }).unwrap();
        dispatch(textTyped({ key, typed: null }));
        setConflict(undefined);
        return kept;
      } catch (error) {
        const problem = error as ProblemBody;
        if (problem.code === 'draft-conflict') {
          setConflict({
            mine: next,
            theirs: problem['theirs'] as string | null,
            by: String(problem['by']),
            version: Number(problem['version']),
          });
        } else tell.problem(problem);
        return undefined;
      }
    },
    [keepDraft, slug, path, dispatch, key, tell],
  );

  const keep = useCallback(async () => {
    if (typed === undefined) return;
    if (await store(text, base)) tell.say('Draft saved', path);
  }, [typed, store, text, base, tell, path]);

  return {
    text,
    keptText,
    setText,
    keep,
    keeping,
    unsaved: typed !== undefined,
    draft,
    answer,
    /** What the project finds, and what the database does. */
    diagnostics,
    conflict,
    settle: (next: string) => store(next, conflict?.version ?? 0),
    leaveConflict: () => setConflict(undefined),
    readOnly,
    whyReadOnly: whyReadOnly ?? '',
  };
}

/** Milliseconds without a keystroke after which the database is asked. */
const SETTLED = 700;

/** What the database itself does not take of a text that the project finds no fault in. */
function useDatabaseProblems(path: string, text: string, sound: boolean): readonly PlacedDiagnostic[] {
  const { slug } = useProject();
  const [settled, setSettled] = useState<string>();
  useEffect(() => {
    const timer = setTimeout(() => setSettled(sound ? text : undefined), SETTLED);
    return () => clearTimeout(timer);
  }, [text, sound]);
  const { currentData } = useValidateQuery(sound && settled === text ? { slug, path, text } : skipToken);
  return useMemo(
    () =>
      (currentData ?? []).map(({ message, hint, line = 1, column = 1 }) => {
        const start = offsetOf(text, line, column);
        return {
          code: 'database',
          severity: 'error',
          path,
          message,
          line,
          column,
          range: { start, end: start + 1 },
          ...(hint ? { hint } : {}),
        };
      }),
    [currentData, path, text],
  );
}

/** The offset of a line and column, both counted from 1. */
export function offsetOf(text: string, line: number, column: number): number {
  const before = text.split('\n').slice(0, line - 1);
  return before.reduce((n, l) => n + l.length + 1, 0) + column - 1;
}

export type FileText = ReturnType<typeof useFileText>;
