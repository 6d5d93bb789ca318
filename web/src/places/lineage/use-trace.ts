import { useEffect, useState } from 'react';
import { useProject } from '../../data/project';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';
import { useTell } from '../../shared/toasts';
import type { ColumnRef, TraceAnswer } from '../../worker/protocol';

/** The way of a column; undefined while it is looked for, null where there is no such column. */
export function useTrace(of: ColumnRef | undefined): TraceAnswer | null | undefined {
  const { summary } = useProject();
  const tell = useTell();
  const [found, setFound] = useState<{ of: string; summary: unknown; answer: TraceAnswer | null }>();
  const key = of && `${of.table}.${of.column}`;
  const { table, column } = of ?? {};
  useEffect(() => {
    if (table === undefined || column === undefined) return;
    let current = true;
    projectWorker.ask<'trace'>({ kind: 'trace', table, column }).then(
      (answer) => current && setFound({ of: `${table}.${column}`, summary, answer }),
      (error: Error) => current && tell.problem(readerProblem(error)),
    );
    return () => {
      current = false;
    };
  }, [table, column, summary, tell]);
  return found?.of === key && found?.summary === summary ? found.answer : undefined;
}
