import type { PlanAnswer } from '@ouvrage/api/anatomy';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useEffect, useRef, useState } from 'react';
import { useSearchParams } from 'react-router';
import { usePlanMutation } from '../../../data/anatomy';
import { useProject } from '../../../data/project';
import { usePreview, type PreviewState } from '../use-preview';
import { useAnatomy, type AnatomyState } from './use-anatomy';

export const QUERY_VIEWS = ['preview', 'anatomy', 'plan'] as const;
export type QueryView = (typeof QUERY_VIEWS)[number];

export interface PlanState {
  readonly plan?: PlanAnswer;
  readonly text?: string;
  readonly problem?: ProblemBody;
  readonly running: boolean;
  readonly run: (text: string, how: 'analyze' | 'only plan') => void;
  readonly stop: () => void;
}

/** What can be seen of a query: its rows, its steps, how it is worked out. */
export interface QueryViews {
  readonly view: QueryView;
  readonly preview: PreviewState;
  readonly anatomy: AnatomyState;
  readonly plan: PlanState;
  /** Opens a view, and asks for it where it has nothing of this text yet. */
  readonly open: (view: QueryView, text: string) => void;
  /** Asks for the view that is open. */
  readonly run: (text: string) => void;
}

export function useQueryViews(path: string, onPlace: (line: number, column: number) => void): QueryViews {
  const [params, setParams] = useSearchParams();
  const view = QUERY_VIEWS.find((v) => v === params.get('view')) ?? 'preview';
  const preview = usePreview(path, onPlace);
  const anatomy = useAnatomy(path, preview.sample);
  const plan = usePlan(path, preview.sample);
  const ask = (of: QueryView, text: string) => {
    if (of === 'preview') preview.run(text);
    else if (of === 'anatomy') anatomy.count(text);
    else plan.run(text, 'analyze');
  };
  const open = (next: QueryView, text: string) => {
    if (next !== view)
      setParams(
        (now) => {
          if (next === 'preview') now.delete('view');
          else now.set('view', next);
          return now;
        },
        { replace: true },
      );
    const known = next === 'preview' ? preview.rows : next === 'anatomy' ? anatomy.text : plan.text;
    if (known === undefined) ask(next, text);
  };
  return { view, preview, anatomy, plan, open, run: (text) => ask(view, text) };
}

function usePlan(path: string, sample: PreviewState['sample']): PlanState {
  const { slug } = useProject();
  const [ask] = usePlanMutation();
  const [result, setResult] = useState<{ plan?: PlanAnswer; problem?: ProblemBody; text?: string }>({});
  const [running, setRunning] = useState(false);
  const going = useRef<{ abort: () => void }>(undefined);
  useEffect(() => () => going.current?.abort(), []);
  const run: PlanState['run'] = (text, how) => {
    going.current?.abort();
    const request = ask({ slug, path, text, analyze: how === 'analyze', ...(sample ? { sample } : {}) });
    going.current = request;
    setRunning(true);
    request
      .unwrap()
      .then((plan) => setResult({ plan, text }))
      .catch((error: ProblemBody & { name?: string }) => {
        if (error.name !== 'AbortError') setResult({ problem: error, text });
      })
      .finally(() => going.current === request && setRunning(false));
  };
  return { ...result, running, run, stop: () => going.current?.abort() };
}
