import type { ColumnRef, Node } from 'libpg-query';
import type { FromItem } from '../columns/scope.js';
import { strings } from '../sql/nodes.js';
import { ident } from '../sql/quote.js';
import type { Span } from './clauses.js';
import { eachNode, type Condition } from './conditions.js';
import type { FigureName, StepLook } from './step.js';

/** Text of a statement: the author's, or ours. */
export type Piece = Span | string;

/** One side of a join. */
export interface Side {
  /** What is behind FROM, and the conditions behind WHERE. */
  readonly from: readonly Piece[];
  readonly where: readonly (readonly Piece[])[];
  readonly item: FromItem;
}

export interface JoinOf {
  readonly type: 'inner' | 'left' | 'right' | 'full' | 'cross';
  readonly left: Side;
  readonly right: Side;
  readonly conditions: readonly Condition[];
  /** The columns of USING, or those that NATURAL finds; undefined where these cannot be known. */
  readonly using: readonly string[] | undefined;
  readonly tokenAt: (location: number | undefined) => number | undefined;
  readonly words: (span: Span) => string;
  /** Where a name that begins at a token ends, its dots included. */
  readonly endOfName: (token: number) => number;
  /** The only `=` of a condition outside of brackets. */
  readonly equals: (span: Span) => number | undefined;
  readonly typeOf: (node: Node, item: FromItem) => string | undefined;
}

/** How a join is counted: a query of numbers, and what each is. */
export interface JoinCount {
  readonly pieces: readonly Piece[];
  readonly gives: readonly FigureName[];
  readonly looks: readonly (Omit<StepLook, 'sql'> & { readonly pieces: readonly Piece[] })[];
  readonly key: readonly string[];
}

const LEFT = '"left side"';
const RIGHT = '"right side"';

/** Types whose equal values group together, and whose groups of both sides can be hashed. */
const GROUPED = new Set(
  'int2 int4 int8 numeric float4 float8 text varchar bpchar date timestamp timestamptz time uuid bool bytea interval'.split(
    ' ',
  ),
);
const FAMILY: Readonly<Record<string, string>> = { int2: 'int8', int4: 'int8', varchar: 'text' };
const family = (type: string | undefined) => (type === undefined ? undefined : (FAMILY[type] ?? type));

/** What is in FROM and WHERE of a side, as a query. */
export const rowsOf = ({ from, where }: Pick<Side, 'from' | 'where'>, columns: readonly Piece[]): Piece[] => [
  'select ',
  ...columns,
  '\nfrom ',
  ...from,
  ...(where.length ? ['\nwhere ', ...joined(where, '\n  and ')] : []),
];

export const joined = (lists: readonly (readonly Piece[])[], by: string): Piece[] =>
  lists.flatMap((list, i) => (i === 0 ? list : [by, ...list]));

type SideName = 'left' | 'right';

interface Ref {
  readonly span: Span;
  readonly side: SideName;
}

interface Key {
  readonly left: readonly Piece[];
  readonly right: readonly Piece[];
  readonly isGrouped: boolean;
  readonly label: string;
}

/** What the conditions of a join are made of. */
interface Parts {
  readonly keys: readonly Key[];
  /** Conditions over one side alone. */
  readonly alone: Readonly<Record<SideName, readonly Span[]>>;
  /** Conditions over both sides that are no key. */
  readonly both: readonly Condition[];
  readonly refs: ReadonlyMap<Condition, readonly Ref[]>;
}

/** How a join is counted, undefined where only its rows can be. */
export function countJoin(join: JoinOf): JoinCount | undefined {
  const parts = partsOf(join);
  if (!parts) return undefined;
  const isByKey = parts.both.length === 0 && parts.keys.length > 0 && parts.keys.every((k) => k.isGrouped);
  return isByKey ? byKey(join, parts) : byRow(join, parts);
}

function partsOf(join: JoinOf): Parts | undefined {
  const { left, right, using, typeOf } = join;
  if (using === undefined) return undefined;
  const keys: Key[] = using.map((name) => {
    const node = { ColumnRef: { fields: [{ String: { sval: name } }] } } as Node;
    const types = [family(typeOf(node, left.item)), family(typeOf(node, right.item))];
    const text = [ident(name)];
    return { left: text, right: text, isGrouped: isGrouped(types), label: name };
  });
  const alone = { left: [] as Span[], right: [] as Span[] };
  const both: Condition[] = [];
  const refs = new Map<Condition, readonly Ref[]>();
  for (const condition of join.conditions) {
    const found = refsOf(join, condition.node);
    if (!found) return undefined;
    refs.set(condition, found);
    const sides = new Set(found.map((r) => r.side));
    const key = sides.size === 2 ? keyOf(join, condition, found) : undefined;
    if (key) keys.push(key);
    else if (sides.size === 1) alone[[...sides][0]!].push(condition.span);
    else both.push(condition);
  }
  return { keys, alone, both, refs };
}

const isGrouped = ([a, b]: readonly (string | undefined)[]) => a !== undefined && a === b && GROUPED.has(a);

/** The columns of an expression, each with its side; undefined where one is of neither, or a query is inside. */
function refsOf(join: JoinOf, node: Node): readonly Ref[] | undefined {
  const refs: Ref[] = [];
  let isKnown = true;
  eachNode(node, (kind, value) => {
    if (kind === 'SubLink') isKnown = false;
    if (kind === 'ColumnRef') {
      const ref = refOf(join, value as ColumnRef);
      if (ref) refs.push(ref);
      else isKnown = false;
    }
    return isKnown;
  });
  return isKnown ? refs.sort((a, b) => a.span.from - b.span.from) : undefined;
}

function refOf(join: JoinOf, { fields, location }: ColumnRef): Ref | undefined {
  const names = strings(fields);
  const token = join.tokenAt(location);
  const inLeft = hasName(join.left.item, names);
  if (names.length !== (fields ?? []).length || token === undefined || inLeft === hasName(join.right.item, names))
    return undefined;
  return { span: { from: token, to: join.endOfName(token) }, side: inLeft ? 'left' : 'right' };
}

function hasName({ ranges, bare }: FromItem, names: readonly string[]): boolean {
  if (names.length === 1) return bare.some((f) => f.name === names[0]);
  const [table, schema] = [names.at(-2), names.at(-3)];
  return ranges.some((r) => r.name === table && (schema === undefined || r.schema === schema));
}

/** A condition as the equality of an expression of each side. */
function keyOf(join: JoinOf, { span, node }: Condition, refs: readonly Ref[]): Key | undefined {
  if (!('A_Expr' in node) || node.A_Expr.kind !== 'AEXPR_OP' || strings(node.A_Expr.name).join('.') !== '=')
    return undefined;
  const at = join.equals(span);
  if (at === undefined) return undefined;
  const sidesOf = (s: Span) =>
    new Set(refs.filter((r) => r.span.from >= s.from && r.span.to <= s.to).map((r) => r.side));
  const [a, b] = [
    { from: span.from, to: at },
    { from: at + 1, to: span.to },
  ];
  const [ofA, ofB] = [sidesOf(a), sidesOf(b)];
  if (ofA.size !== 1 || ofB.size !== 1 || ofA.has([...ofB][0]!)) return undefined;
  const { lexpr, rexpr } = node.A_Expr;
  const isLeftFirst = ofA.has('left');
  const [item, other] = isLeftFirst ? [join.left.item, join.right.item] : [join.right.item, join.left.item];
  const types = [family(join.typeOf(lexpr!, item)), family(join.typeOf(rexpr!, other))];
  const [left, right] = isLeftFirst ? [a, b] : [b, a];
  return { left: [left], right: [right], isGrouped: isGrouped(types), label: join.words(left) };
}

const AFTER: Readonly<Record<JoinOf['type'], string>> = {
  inner: '',
  cross: '',
  left: ' + left_alone',
  right: ' + right_alone',
  full: ' + left_alone + right_alone',
};

// By keys ----------------------------------------------------------------------------------------

/** Both sides are grouped by the key, so that no row meets another one. */
function byKey(join: JoinOf, parts: Parts): JoinCount {
  const names = parts.keys.map((_, i) => `k${i + 1}`);
  const sides = keySides(join, parts);
  const isNull = (side: string) => names.map((n) => `${side}.${n} is null`).join(' or ');
  const [ln, rn] = [`${LEFT}.n`, `${RIGHT}.n`];
  const sum = (what: string, where?: string) => `coalesce(sum(${what})${where ? ` filter (where ${where})` : ''}, 0)`;
  // Conditions over one side make its keys null; null keys of the author's are not told from them.
  const nulls = (side: SideName): readonly [FigureName, string][] =>
    parts.alone[side].length
      ? []
      : [[`${side}Null`, sum(side === 'left' ? ln : rn, isNull(side === 'left' ? LEFT : RIGHT))]];
  const figures: readonly (readonly [FigureName, string])[] = [
    ['left', sum(ln)],
    ['right', sum(rn)],
    ['leftAlone', sum(ln, `${rn} is null`)],
    ['rightAlone', sum(rn, `${ln} is null`)],
    ['leftSeveral', sum(ln, `${rn} > 1`)],
    ['rightSeveral', sum(rn, `${ln} > 1`)],
    ['rightPartners', sum(rn, `${ln} > 0 and ${rn} > 1`)],
    ['leftMost', `coalesce(max(${rn}) filter (where ${ln} > 0), 0)`],
    ['rightMost', `coalesce(max(${ln}) filter (where ${rn} > 0), 0)`],
    ['leftKeys', `count(*) filter (where ${ln} > 0 and ${rn} > 1)`],
    ['rightKeys', `count(*) filter (where ${rn} > 0 and ${ln} > 1)`],
    ...nulls('left'),
    ...nulls('right'),
  ];
  const on = names.map((n) => `${LEFT}.${n} = ${RIGHT}.${n}`).join(' and ');
  const columns = figures.map(([name, sql]) => `${sql} as ${ident(name)}`).join(',\n  ');
  const pairs = `coalesce(sum(${ln} * ${rn}), 0)`;
  const after = `${pairs}${AFTER[join.type]
    .replace('left_alone', sum(ln, `${rn} is null`))
    .replace('right_alone', sum(rn, `${ln} is null`))}`;
  const key = parts.keys.map((k) => k.label);
  const shown = parts.keys.map((k, i) => `${LEFT}.k${i + 1} as ${ident(k.label)}`).join(', ');
  const several = `select ${names.map((n) => `${LEFT}.${n} as ${ident(`key ${n}`)}`).join(', ')}, ${ln} as "left rows", ${rn} as "right rows"\nfrom ${LEFT} join ${RIGHT} on ${on}\nwhere ${rn} > 1`;
  return {
    pieces: [...sides, `\nselect ${after} as "rows",\n  ${columns}\nfrom ${LEFT} full join ${RIGHT} on ${on}`],
    gives: ['rows', ...figures.map(([name]) => name)],
    key,
    looks: [
      ...aloneLooks(join, parts),
      {
        name: 'keys',
        hidden: 0,
        pieces: [
          ...sides,
          `\nselect ${shown}, ${ln} as "left rows", ${rn} as "right rows"\nfrom ${LEFT} join ${RIGHT} on ${on}\nwhere ${rn} > 1\norder by ${rn} desc, ${ln} desc, ${names.map((n) => `${LEFT}.${n}`).join(', ')}`,
        ],
      },
      ...(['left', 'right'] as const).map((side) => rowsOfKeys(join, parts, { side, sides, several })),
    ],
  };
}

const keySides = (join: JoinOf, parts: Parts): Piece[] => [
  `with ${LEFT} as (\n`,
  ...keySide(join.left, parts, 'left'),
  `\n), ${RIGHT} as (\n`,
  ...keySide(join.right, parts, 'right'),
  '\n)',
];

/** The keys of a side, a condition over this side alone making them null. */
function keyColumns(parts: Parts, side: SideName, name: (n: number) => string): Piece[][] {
  return parts.keys.map((key, i) => [
    ...(parts.alone[side].length
      ? [
          'case when ',
          ...joined(
            parts.alone[side].map((s) => ['(', s, ')']),
            ' and ',
          ),
          ' then (',
        ]
      : ['(']),
    ...key[side],
    `)${parts.alone[side].length ? ' end' : ''} as ${name(i + 1)}`,
  ]);
}

const keySide = (side: Side, parts: Parts, name: SideName): Piece[] => [
  ...rowsOf(side, [
    ...joined(
      keyColumns(parts, name, (n) => `k${n}`),
      ', ',
    ),
    ', count(*) as n',
  ]),
  `\ngroup by ${parts.keys.map((_, i) => i + 1).join(', ')}`,
];

/** The rows of a side whose keys meet several rows on the right, the worst first. */
function rowsOfKeys(
  join: JoinOf,
  parts: Parts,
  { side, sides, several }: { readonly side: SideName; readonly sides: readonly Piece[]; readonly several: string },
): JoinCount['looks'][number] {
  const keys = parts.keys.map((_, i) => `"key k${i + 1}"`);
  const own = joined(
    keyColumns(parts, side, (n) => `"the k${n}"`),
    ', ',
  );
  return {
    name: side === 'left' ? 'leftRows' : 'rightRows',
    hidden: keys.length,
    pieces: [
      ...sides,
      `, "several keys" as (\n${several}\n)\nselect s.*\nfrom (\n`,
      ...rowsOf(join[side], [...own, ', *']),
      `\n) as s\njoin "several keys" as m on ${keys.map((k, i) => `s."the k${i + 1}" = m.${k}`).join(' and ')}\norder by m."right rows" desc, m."left rows" desc, ${keys.map((k) => `m.${k}`).join(', ')}`,
    ],
  };
}

// By rows ----------------------------------------------------------------------------------------

/** Rows are numbered and paired: for conditions beside equality. */
function byRow(join: JoinOf, parts: Parts): JoinCount {
  const { left, right, on } = numbered(join, parts);
  const sides: Piece[] = [
    `with ${LEFT} as materialized (\n`,
    ...rowsOf(join.left, ['row_number() over () as "no"', ...left]),
    `\n), ${RIGHT} as materialized (\n`,
    ...rowsOf(join.right, ['row_number() over () as "no"', ...right]),
    `\n), "pairs" as materialized (\nselect ${LEFT}."no" as l, ${RIGHT}."no" as r\nfrom ${LEFT} cross join ${RIGHT}\nwhere `,
    ...on,
    `\n), "lefts" as (\nselect coalesce(sum(n), 0) as n, count(*) as met, count(*) filter (where n > 1) as several, coalesce(max(n), 0) as most from (select count(*) as n from "pairs" group by l) as g\n), "rights" as (\nselect count(*) as met, count(*) filter (where n > 1) as several, coalesce(max(n), 0) as most from (select count(*) as n from "pairs" group by r) as g\n), "sizes" as (\nselect (select count(*) from ${LEFT}) as l, (select count(*) from ${RIGHT}) as r\n)`,
  ];
  const alone = { left: '("sizes".l - "lefts".met)', right: '("sizes".r - "rights".met)' };
  const after = AFTER[join.type].replace('left_alone', alone.left).replace('right_alone', alone.right);
  return {
    pieces: [
      ...sides,
      `\nselect "lefts".n${after} as "rows", "sizes".l as "left", "sizes".r as "right", ${alone.left} as "leftAlone", ${alone.right} as "rightAlone", "lefts".several as "leftSeveral", "rights".several as "rightSeveral", "lefts".most as "leftMost", "rights".most as "rightMost"\nfrom "sizes", "lefts", "rights"`,
    ],
    gives: ['rows', 'left', 'right', 'leftAlone', 'rightAlone', 'leftSeveral', 'rightSeveral', 'leftMost', 'rightMost'],
    key: [],
    looks: [...aloneLooks(join, parts), severalLook(join, parts)],
  };
}

/** Both sides with their columns that conditions use, and the conditions over these. */
function numbered(join: JoinOf, parts: Parts): { left: Piece[]; right: Piece[]; on: Piece[] } {
  const columns = { left: [] as Piece[], right: [] as Piece[] };
  const count = { left: 0, right: 0 };
  const add = (side: SideName, text: readonly Piece[]): string => {
    const name = `c${++count[side]}`;
    columns[side].push(', ', ...text, ` as ${name}`);
    return `${side === 'left' ? LEFT : RIGHT}.${name}`;
  };
  const ons = (join.using ?? []).map((name): Piece[] => [
    `${add('left', [ident(name)])} = ${add('right', [ident(name)])}`,
  ]);
  for (const { span, node } of join.conditions) {
    const refs = parts.refs.get(join.conditions.find((c) => c.node === node)!)!;
    ons.push(['(', ...replaced(span, refs, (ref) => add(ref.side, [ref.span])), ')']);
  }
  return { ...columns, on: ons.length ? joined(ons, ' and ') : ['true'] };
}

/** A condition with some of its columns written otherwise. */
function replaced(span: Span, refs: readonly Ref[], write: (ref: Ref) => string | undefined): Piece[] {
  const pieces: Piece[] = [];
  let at = span.from;
  for (const ref of refs) {
    const text = write(ref);
    if (text === undefined) continue;
    if (ref.span.from > at) pieces.push({ from: at, to: ref.span.from });
    pieces.push(` ${text} `);
    at = ref.span.to;
  }
  if (at < span.to) pieces.push({ from: at, to: span.to });
  return pieces;
}

/** The rows on the left that meet several on the right, with how many. */
function severalLook(join: JoinOf, parts: Parts): JoinCount['looks'][number] {
  const { left, right, on } = numbered(join, parts);
  return {
    name: 'leftRows',
    hidden: 1 + left.filter((p) => p === ', ').length,
    pieces: [
      `with ${LEFT} as materialized (\n`,
      ...rowsOf(join.left, ['row_number() over () as "no"', ...left, ', *']),
      `\n), ${RIGHT} as materialized (\n`,
      ...rowsOf(join.right, ['row_number() over () as "no"', ...right]),
      `\n)\nselect ${LEFT}.*, g."partners"\nfrom ${LEFT} join (\nselect ${LEFT}."no" as l, count(*) as "partners"\nfrom ${LEFT} cross join ${RIGHT}\nwhere `,
      ...on,
      `\ngroup by 1\nhaving count(*) > 1\n) as g on g.l = ${LEFT}."no"\norder by g."partners" desc, ${LEFT}."no"`,
    ],
  };
}

/** The rows of each side without a partner. */
function aloneLooks(join: JoinOf, parts: Parts): JoinCount['looks'] {
  return (['left', 'right'] as const).map((side) => {
    const other = side === 'left' ? 'right' : 'left';
    const name = other === 'left' ? LEFT : RIGHT;
    const columns: Piece[] = [];
    let n = 0;
    const add = (text: readonly Piece[]): string => {
      columns.push(...(n ? [', '] : []), ...text, ` as "c ${++n}"`);
      return `${name}."c ${n}"`;
    };
    const ons = (join.using ?? []).map((u): Piece[] => [`${add([ident(u)])} = ${ident(u)}`]);
    for (const condition of join.conditions) {
      const refs = parts.refs.get(condition)!;
      ons.push([
        '(',
        ...replaced(condition.span, refs, (ref) => (ref.side === other ? add([ref.span]) : undefined)),
        ')',
      ]);
    }
    return {
      name: side === 'left' ? ('leftAlone' as const) : ('rightAlone' as const),
      hidden: 0,
      pieces: [
        ...rowsOf(
          {
            from: join[side].from,
            where: [
              ...join[side].where,
              [
                'not exists (select from (\n',
                ...rowsOf(join[other], columns.length ? columns : ['1 as "c 1"']),
                `\n) as ${name}${ons.length ? '\nwhere ' : ''}`,
                ...joined(ons, ' and '),
                ')',
              ],
            ],
          },
          ['*'],
        ),
      ],
    };
  });
}
