import type { Node } from 'libpg-query';
import type { Clauses, Span } from './clauses.js';

/** An item of FROM by its tokens, with its node. */
export type FromText = JoinText | ItemText;

export interface ItemText extends Span {
  readonly kind: 'item';
  readonly node: Node;
}

export interface JoinText extends Span {
  readonly kind: 'join';
  readonly node: Extract<Node, { JoinExpr: unknown }>;
  readonly left: FromText;
  readonly right: FromText;
  /** From the words of the join to its end, the brackets around it left out. */
  readonly label: Span;
  readonly on: Span | undefined;
}

const JOINING = new Set(['inner', 'left', 'right', 'full', 'cross', 'natural']);
const BEHIND = new Set(['join', 'outer', 'inner', 'left', 'right', 'full']);

/**
 * Reads the items of FROM by their tokens beside their nodes, as the grammar does: ON and USING belong to the last
 * join that has none. @returns undefined where tokens and nodes do not go together
 */
export function readFromText(clauses: Clauses, span: Span, nodes: readonly Node[]): FromText[] | undefined {
  const items = clauses.list(span);
  if (items.length !== nodes.length) return undefined;
  const read = items.map((item, i) => new FromReader(clauses, item.to).whole(item, nodes[i]!));
  return read.every((r) => r !== undefined) ? read : undefined;
}

/** A join as it is read, before its node is known. */
interface Shape extends Span {
  readonly parts?: readonly [Shape, Shape];
  readonly label?: Span;
  readonly on?: Span | undefined;
  /** What is inside of brackets. */
  readonly inner?: Shape;
}

class FromReader {
  constructor(
    private readonly clauses: Clauses,
    private readonly to: number,
  ) {}

  whole({ from }: Span, node: Node): FromText | undefined {
    const shape = this.joined(from);
    return shape.to === this.to ? this.matched(shape, node) : undefined;
  }

  private word(i: number): string {
    return i < this.to ? this.clauses.words.word(i) : '';
  }

  /** Where the words of a join begin, and whether it needs a condition. */
  private joinAt(i: number): { readonly end: number; readonly isBound: boolean } | undefined {
    let at = i;
    let isFree = false;
    while (JOINING.has(this.word(at)) || this.word(at) === 'outer') {
      if (!BEHIND.has(this.word(at + 1))) return undefined;
      isFree ||= ['cross', 'natural'].includes(this.word(at));
      at++;
    }
    return this.word(at) === 'join' ? { end: at + 1, isBound: !isFree } : undefined;
  }

  private joined(from: number): Shape {
    let left = this.item(from);
    while (this.joinAt(left.to)) left = this.oneJoin(left);
    return left;
  }

  private oneJoin(left: Shape): Shape {
    const join = this.joinAt(left.to)!;
    let right = this.item(join.end);
    if (!join.isBound)
      return { from: left.from, to: right.to, parts: [left, right], label: { from: left.to, to: right.to } };
    while (this.joinAt(right.to)) right = this.oneJoin(right);
    const { to, on } = this.condition(right.to);
    return { from: left.from, to, parts: [left, right], label: { from: left.to, to }, on };
  }

  private condition(at: number): { readonly to: number; readonly on: Span | undefined } {
    if (this.word(at) === 'using') {
      const close = this.clauses.closing(at + 1, this.to);
      // USING may have a name for its columns.
      const to = this.word(close + 1) === 'as' ? close + 3 : close + 1;
      return { to, on: undefined };
    }
    if (this.word(at) !== 'on') return { to: at, on: undefined };
    const to = this.end(at + 1);
    return { to, on: { from: at + 1, to } };
  }

  /** Where an item or a condition ends: before the next join, ON or USING. */
  private end(from: number): number {
    for (const i of this.clauses.heads(from, this.to)) {
      if (i === from) continue;
      if (['on', 'using'].includes(this.word(i)) || this.joinAt(i)) return i;
    }
    return this.to;
  }

  private item(from: number): Shape {
    const to = Math.max(this.end(from), from + 1);
    if (this.word(from) !== '(') return { from, to };
    const close = this.clauses.closing(from, this.to);
    const first = this.word(from + 1);
    if (['select', 'values', 'with', 'table'].includes(first)) return { from, to };
    const inner = new FromReader(this.clauses, close).joined(from + 1);
    return inner.to === close ? { from, to, inner } : { from, to };
  }

  private matched(shape: Shape, node: Node): FromText | undefined {
    if (!('JoinExpr' in node)) return shape.parts ? undefined : { kind: 'item', node, from: shape.from, to: shape.to };
    // Brackets leave no mark in the tree: those around a join are part of its text.
    let within = shape;
    while (!within.parts && within.inner) within = within.inner;
    if (!within.parts) return undefined;
    const [left, right] = [
      this.matched(within.parts[0], node.JoinExpr.larg!),
      this.matched(within.parts[1], node.JoinExpr.rarg!),
    ];
    if (!left || !right || (within.on === undefined) !== (node.JoinExpr.quals === undefined)) return undefined;
    return {
      kind: 'join',
      node,
      from: shape.from,
      to: shape.to,
      left,
      right,
      label: within.label!,
      on: within.on,
    };
  }
}
