/** A node of `explain (format json)`, as far as it is looked at. */
interface PlanNode {
  readonly 'Node Type': string;
  readonly 'Relation Name'?: string;
  readonly Plans?: readonly PlanNode[];
  readonly [property: string]: unknown;
}

const CONDITIONS = ['Index Cond', 'Filter', 'Recheck Cond', 'Join Filter', 'One-Time Filter'];
const isOfBound = (node: PlanNode) => CONDITIONS.some((c) => String(node[c] ?? '').includes('load.bound'));

function* nodesOf(node: PlanNode): Generator<PlanNode> {
  yield node;
  for (const inner of node.Plans ?? []) yield* nodesOf(inner);
}

/**
 * What PostgreSQL does with the bound of an append load, in words: whether rows behind it are left out
 * where the input is read, or only after all of it was read and computed.
 * @param explained the rows of `explain (format json)` of the bounded query
 */
export function boundNote(explained: unknown): string {
  const [{ Plan: root }] = (typeof explained === 'string' ? JSON.parse(explained) : explained) as [{ Plan: PlanNode }];
  const held = [...nodesOf(root)].filter(isOfBound);
  const indexed = held.find(
    (n) =>
      n['Relation Name'] !== undefined && String(n['Index Cond'] ?? n['Recheck Cond'] ?? '').includes('load.bound'),
  );
  if (indexed) return `the watermark’s bound reaches an index of ${indexed['Relation Name']!}`;
  const scanned = held.find((n) => n['Relation Name'] !== undefined);
  if (scanned)
    return `the watermark’s bound reaches the scan of ${scanned['Relation Name']!}, which has no index for it`;
  const at = held[0]?.['Node Type'];
  return `the watermark’s bound does not reach the input: all of it is read and computed first${at === undefined ? '' : ` (${at})`}. Keep the watermark free of aggregates and windows in the query.`;
}
