import {
  type LoneColumn,
  readSharedValues,
  sharedValuesQuery,
  type SharedValues,
  uniqueValuesQuery,
  type ValuePair,
} from '@ouvrage/core/starter';
import { useState } from 'react';
import { usePreviewMutation } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import { plural } from '../../shared/format';

/** Asks the warehouse which pairs of columns share values. */
export function useSharedValues() {
  const { slug } = useProject();
  const [ask, { error, isLoading }] = usePreviewMutation();
  const [told, setTold] = useState<string>();
  /** @returns undefined where the question failed; `problem` says why */
  const look = async (pairs: readonly ValuePair[]): Promise<SharedValues[] | undefined> => {
    setTold(undefined);
    if (pairs.length === 0) {
      setTold('No column is left whose type fits another.');
      return [];
    }
    const answer = await ask({
      slug,
      path: 'adhoc/shared_values.sql',
      text: sharedValuesQuery(pairs),
      limit: pairs.length,
    });
    if (!answer.data) return undefined;
    const found = readSharedValues(pairs, answer.data.rows);
    setTold(`${plural(pairs.length, 'pair')} of columns compared.`);
    return found;
  };
  /** Which columns have another value in each row looked at; undefined where the question failed. */
  const lookUnique = async (columns: readonly LoneColumn[]): Promise<readonly LoneColumn[] | undefined> => {
    if (columns.length === 0) return [];
    const text = uniqueValuesQuery(columns);
    const answer = await ask({ slug, path: 'adhoc/unique_values.sql', text, limit: columns.length });
    return answer.data?.rows.flatMap(([i, unique]) =>
      unique === 'true' || unique === 't' ? (columns[Number(i)] ?? []) : [],
    );
  };
  return { look, lookUnique, looking: isLoading, told, problem: error as ProblemBody | undefined };
}
