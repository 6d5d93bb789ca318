import type { ProblemBody } from '@ouvrage/api/problem';
import type { PreviewSample } from '@ouvrage/api/rows';
import { useEffect, useRef, useState } from 'react';
import { countSteps } from '../../../data/anatomy';
import { useProject } from '../../../data/project';
import { withLine, type Counting } from './strip';

export interface AnatomyState extends Counting {
  /** The text that was counted. */
  readonly text?: string;
  readonly problem?: ProblemBody;
  readonly running: boolean;
  readonly count: (text: string, force?: 'force') => void;
  readonly stop: () => void;
}

/** Counts the steps of a file's query; a new counting ends the one before. */
export function useAnatomy(path: string, sample: PreviewSample | undefined): AnatomyState {
  const { slug } = useProject();
  const [state, setState] = useState<Counting & { text?: string; problem?: ProblemBody }>({});
  const [running, setRunning] = useState(false);
  const going = useRef<AbortController>(undefined);
  useEffect(() => () => going.current?.abort(), []);
  const count = (text: string, force?: 'force') => {
    going.current?.abort();
    const own = new AbortController();
    going.current = own;
    setRunning(true);
    let begun = false;
    const asked = { slug, path, text, force: force === 'force', ...(sample ? { sample } : {}) };
    countSteps(
      asked,
      (line) => {
        // What was counted before stays until something new is there.
        setState((s) => ({ ...withLine(begun ? s : {}, line), text }));
        begun = true;
      },
      own.signal,
    )
      .catch((error: unknown) => {
        if (!own.signal.aborted) setState({ text, problem: error as ProblemBody });
      })
      .finally(() => going.current === own && setRunning(false));
  };
  const stop = () => {
    going.current?.abort();
    setRunning(false);
  };
  return { ...state, running, count, stop };
}
