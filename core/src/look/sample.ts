import { ident } from '../sql/quote.js';

/** How a large input is thinned out for a preview. Runs never use a sample. */
export type Sample =
  | { readonly kind: 'plain'; /** Share of the rows, 0 to 1. */ readonly share: number }
  | {
      readonly kind: 'stratified';
      /** Each combination of their values stays. */ readonly by: readonly string[];
      readonly each: number;
    };

/**
 * A query for a sample of a table's rows, the same at each preview.
 *
 * @param from the table's qualified name
 * @param columns its columns in order
 * @param isTable only tables can be sampled by blocks; of a view's rows some are passed over
 */
export function sampleQuery(
  from: string,
  columns: readonly string[],
  sample: Sample,
  { isTable }: { readonly isTable: boolean },
): string {
  const list = columns.map(ident).join(', ');
  if (sample.kind === 'stratified') {
    const order = `hashtextextended(cast(numbered as text), 0)`;
    return `select ${list} from (select *, row_number() over (partition by ${sample.by.map(ident).join(', ')} order by ${order}) as "~each" from ${from} as numbered) as strata where "~each" <= ${Math.max(1, Math.trunc(sample.each))}`;
  }
  const share = Math.min(1, Math.max(0, sample.share));
  if (isTable) return `select ${list} from ${from} tablesample bernoulli (${(share * 100).toFixed(4)}) repeatable (1)`;
  return `select ${list} from ${from} as numbered where mod(abs(hashtextextended(cast(numbered as text), 0) % 1000000), 1000000) < ${Math.round(share * 1_000_000)}`;
}
