import type { Node, SubLink } from 'libpg-query';
import type { Clauses, Span } from './clauses.js';

/** One of the conditions that AND joins. */
export interface Condition {
  readonly span: Span;
  readonly node: Node;
}

/** The conditions of a condition, brackets around some of them opened; all of it is one where tokens and tree differ. */
export function conditionsOf(clauses: Clauses, span: Span, node: Node): readonly Condition[] {
  const [spans, nodes] = [spansOf(clauses, span), nodesOf(node)];
  return spans.length === nodes.length ? spans.map((s, i) => ({ span: s, node: nodes[i]! })) : [{ span, node }];
}

function spansOf(clauses: Clauses, span: Span): Span[] {
  const parts = clauses.conjuncts(span);
  if (parts.length > 1) return parts.flatMap((part) => spansOf(clauses, part));
  const inside = { from: span.from + 1, to: span.to - 1 };
  const isBrackets = clauses.words.word(span.from) === '(' && clauses.closing(span.from, span.to) === inside.to;
  return isBrackets && !['select', 'with', 'values'].includes(clauses.words.word(inside.from))
    ? spansOf(clauses, inside)
    : [span];
}

const nodesOf = (node: Node): Node[] =>
  'BoolExpr' in node && node.BoolExpr.boolop === 'AND_EXPR' ? (node.BoolExpr.args ?? []).flatMap(nodesOf) : [node];

/** A condition over the rows of another query: `in (…)`, `not in (…)`, `exists (…)`. */
export interface ListCondition {
  readonly link: SubLink;
  readonly isNot: boolean;
}

export function listCondition(node: Node): ListCondition | undefined {
  const isNot = 'BoolExpr' in node && node.BoolExpr.boolop === 'NOT_EXPR';
  const inner = isNot ? node.BoolExpr.args![0]! : node;
  if (!('SubLink' in inner)) return undefined;
  const { subLinkType } = inner.SubLink;
  return subLinkType === 'EXISTS_SUBLINK' || subLinkType === 'ANY_SUBLINK' ? { link: inner.SubLink, isNot } : undefined;
}

/** Calls a function for each node of a tree that has a kind; queries in expressions are left out where asked for. */
export function eachNode(tree: unknown, visit: (kind: string, node: object) => boolean | void): void {
  if (Array.isArray(tree)) {
    for (const item of tree) eachNode(item, visit);
    return;
  }
  if (typeof tree !== 'object' || tree === null) return;
  for (const key in tree) {
    const value = (tree as Record<string, unknown>)[key];
    if (typeof value !== 'object' || value === null) continue;
    if (visit(key, value) !== false) eachNode(value, visit);
  }
}
