import type { MergeSpec, HistorySpec, EventsSpec } from '../../language/spec.js';
import { literal, qualified } from '../../sql/quote.js';
import type { Place } from '../../model/place.js';
import type { PolicyContext } from './context.js';
import type { LoadStep } from '../../compile/steps.js';

/** Tables with fewer rows are always changed in their place: making one again costs more than it saves. */
const FEW_ROWS = 10_000;

/** About how many rows a table has, as its statistics say. */
const rowsOf = (place: Place) =>
  `select greatest(reltuples::bigint, 0) as of_rows from pg_class where oid = ${literal(qualified(place))}::regclass`;

/** How many rows change, all being found. */
export const countedChanges = (changes: string): string => `select count(*) as changed, '' as about from ${changes}`;

/** Rows of a table that are held against the query to tell how many change. */
const SAMPLE = 10_000;

/**
 * About how many rows change, from some pages of the table, the same at each load. New rows are not among them: they cost much the same in either shape.
 * @param heldAgainst a query of `op$`, what becomes of each row of a sample that the query returns, null for nothing
 */
export function sampledChanges(place: Place, heldAgainst: (sample: string) => string): string {
  const pages = `(select case when of_rows < ${FEW_ROWS} then 1 else least(100, 100.0 * ${SAMPLE} / of_rows) end from (${rowsOf(place)}) as t)`;
  const sample = `(select *, ctid as row_id$ from ${qualified(place)} tablesample system (${pages}) repeatable (1))`;
  return `select round(of_rows * coalesce(h.changed::numeric / nullif(s.rows, 0), 0))::bigint as changed, 'about ' as about
  from (select count(op$) as changed from (${heldAgainst(sample)}) as held) as h, (select count(*) as rows from ${sample} as sample) as s, (${rowsOf(place)}) as c`;
}

/** The two ways of writing what changes. */
interface Shapes {
  /** How many rows change: see `countedChanges` and `sampledChanges`. */
  readonly amount: string;
  /** Above this share of the rows, writing all again is faster. */
  readonly share: number;
  readonly inPlace: readonly LoadStep[];
  /** The steps that make the table beside. */
  readonly rewrite: (staged: Place) => readonly LoadStep[];
}

/**
 * Changes a table in its place, or writes it again beside and swaps, by the share of its rows that the
 * load has found to change; `shape` says it for good. A load that changes nothing writes nothing.
 */
export function shapeSteps(
  context: PolicyContext<MergeSpec | HistorySpec | EventsSpec>,
  { amount, share, inPlace, rewrite }: Shapes,
): LoadStep[] {
  const { own, staged } = context;
  const { shape } = context.spec;
  if (!staged || shape === 'in_place') return [...inPlace];
  const rows = `(${amount}) as n, (${rowsOf(own)}) as c`;
  const condition = shape === 'rewrite' ? 'changed > 0' : `of_rows >= ${FEW_ROWS} and changed > ${share} * of_rows`;
  const reason = shape === 'rewrite' ? 'shape = rewrite' : `above ${share * 100} % all rows are rewritten`;
  return [
    {
      step: 'choose',
      sql: `select ${condition} as rewrite,
  format('%s: %s%s of about %s rows change (${reason.replaceAll('%', '%%')})', case when ${condition} then 'all rows rewritten' else 'changed in place' end, about, changed, of_rows) as note
from ${rows}`,
      inPlace,
      rewrite: rewrite(staged),
    },
  ];
}
