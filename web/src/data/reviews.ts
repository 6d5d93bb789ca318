import type { RemarkPlace, Review, ReviewWord } from '@ouvrage/api/review';
import { api, at } from './api';

/** A place as it is sent: the server reads the text of a line itself. */
export type PlaceAsked = RemarkPlace extends infer P ? (P extends { kind: 'line' } ? Omit<P, 'text'> : P) : never;

const endpoints = api.injectEndpoints({
  endpoints: (b) => ({
    review: b.query<Review, string>({
      query: (slug) => `${at(slug)}/review`,
      providesTags: ['Reviews', 'Releases', 'Files', 'Drafts'],
    }),
    judge: b.mutation<void, { slug: string; word: ReviewWord; text: string; diff: string }>({
      query: ({ slug, ...body }) => ({ url: `${at(slug)}/review/verdicts`, method: 'POST', body }),
      invalidatesTags: ['Reviews'],
    }),
    withdraw: b.mutation<void, string>({
      query: (slug) => ({ url: `${at(slug)}/review/verdicts`, method: 'DELETE' }),
      invalidatesTags: ['Reviews'],
    }),
    askReview: b.mutation<void, string>({
      query: (slug) => ({ url: `${at(slug)}/review/requests`, method: 'POST' }),
      invalidatesTags: ['Reviews'],
    }),
    makeRemark: b.mutation<void, { slug: string; place: PlaceAsked; text: string }>({
      query: ({ slug, place, text }) => ({
        url: `${at(slug)}/review/remarks`,
        method: 'POST',
        body: { ...place, text },
      }),
      invalidatesTags: ['Reviews'],
    }),
    answerRemark: b.mutation<void, { slug: string; id: number; text: string }>({
      query: ({ slug, id, text }) => ({
        url: `${at(slug)}/review/remarks/${id}/answers`,
        method: 'POST',
        body: { text },
      }),
      invalidatesTags: ['Reviews'],
    }),
    resolveRemark: b.mutation<void, { slug: string; id: number; resolved: boolean }>({
      query: ({ slug, id, resolved }) => ({
        url: `${at(slug)}/review/remarks/${id}/resolution`,
        method: 'POST',
        body: { resolved },
      }),
      invalidatesTags: ['Reviews'],
    }),
  }),
});

export const {
  useReviewQuery,
  useJudgeMutation,
  useWithdrawMutation,
  useAskReviewMutation,
  useMakeRemarkMutation,
  useAnswerRemarkMutation,
  useResolveRemarkMutation,
} = endpoints;
