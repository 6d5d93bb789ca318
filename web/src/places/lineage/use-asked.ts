import { useEffect, useState } from 'react';
import { useProject } from '../../data/project';
import { useTell } from '../../shared/toasts';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';
import type { Answers, Request } from '../../worker/protocol';

/** What the worker says of the whole project; undefined while it is asked. */
export function useAsked<K extends 'unread' | 'coverage'>(kind: K): Answers[K] | undefined {
  const { summary } = useProject();
  const tell = useTell();
  const [found, setFound] = useState<{ of: unknown; answer: Answers[K] }>();
  useEffect(() => {
    let current = true;
    projectWorker.ask<K>({ kind } as Extract<Request, { kind: K }>).then(
      (answer) => current && setFound({ of: summary, answer }),
      (error: Error) => current && tell.problem(readerProblem(error)),
    );
    return () => {
      current = false;
    };
  }, [kind, summary, tell]);
  return found?.of === summary ? found.answer : undefined;
}
