import type { AnatomyLine, PlanAnswer } from '@ouvrage/api/anatomy';
import type { PreviewSample, Rows } from '@ouvrage/api/rows';
import type { StepLook } from '@ouvrage/core/anatomy';
import { api, at, postLines } from './api';

/** A query as it is being written. */
export interface WrittenQuery {
  readonly slug: string;
  readonly path: string;
  readonly text: string;
  readonly sample?: PreviewSample;
}

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    stepRows: b.mutation<Rows, WrittenQuery & { step: string; look: StepLook['name']; limit: number }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/anatomy/rows`, method: 'POST', body }),
    }),
    plan: b.mutation<PlanAnswer, WrittenQuery & { analyze: boolean }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/plan`, method: 'POST', body }),
    }),
  }),
});
export const { useStepRowsMutation, usePlanMutation } = endpoints;

/** Counts the steps of a query. @param onLine told of each thing as it is found @throws ProblemBody where it cannot begin */
export const countSteps = (
  { slug, ...body }: WrittenQuery & { force: boolean },
  onLine: (line: AnatomyLine) => void,
  signal: AbortSignal,
): Promise<void> => postLines(`${at(slug)}/anatomy`, { body, signal }, (line) => onLine(line as AnatomyLine));
