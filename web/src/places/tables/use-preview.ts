import type { StepError } from '@ouvrage/api/run';
import { useState, useRef, useEffect } from 'react';
import { usePreviewMutation } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { Rows, PreviewSample } from '@ouvrage/api/rows';
export const PREVIEW_ROWS = 500;

export interface PreviewState {
  readonly rows?: Rows;
  readonly problem?: ProblemBody;
  readonly running: boolean;
  readonly run: (text: string) => void;
  readonly stop: () => void;
  readonly sample: PreviewSample | undefined;
  readonly setSample: (sample: PreviewSample | undefined) => void;
}

/** Runs previews of a file; a new one ends the one before, and leaving ends it in the warehouse. */
export function usePreview(path: string, onPlace: (line: number, column: number) => void): PreviewState {
  const { slug } = useProject();
  const [ask] = usePreviewMutation();
  const [result, setResult] = useState<{ rows?: Rows; problem?: ProblemBody }>({});
  const [running, setRunning] = useState(false);
  const going = useRef<{ abort: () => void }>(undefined);
  useEffect(() => () => going.current?.abort(), []);
  const [sample, setSample] = useState<PreviewSample>();
  const run = (text: string) => {
    going.current?.abort();
    const request = ask({ slug, path, text, limit: PREVIEW_ROWS, ...(sample ? { sample } : {}) });
    going.current = request;
    setRunning(true);
    request
      .unwrap()
      .then((rows) => setResult({ rows }))
      .catch((error: ProblemBody & { name?: string }) => {
        if (error.name === 'AbortError') return;
        setResult({ problem: error });
        const place = error['error'] as StepError | undefined;
        if (place?.line !== undefined && place.path === path) onPlace(place.line, place.column ?? 1);
      })
      .finally(() => going.current === request && setRunning(false));
  };
  return { ...result, running, run, stop: () => going.current?.abort(), sample, setSample };
}
