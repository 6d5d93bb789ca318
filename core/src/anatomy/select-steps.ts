import type { FuncCall, Node, SelectStmt, WindowDef } from 'libpg-query';
import { strings } from '../sql/nodes.js';
import type { Calls } from './calls.js';
import type { SelectText, Span } from './clauses.js';
import { joined, type Piece } from './join.js';
import type { Flow, Kit, Made } from './made.js';

interface SelectOf {
  readonly text: SelectText;
  readonly select: SelectStmt;
  readonly calls: Calls;
  /** The rows behind FROM and WHERE. */
  readonly flow: Flow;
}

/** The steps of a select behind its WHERE: groups, HAVING, windows, sets among its columns, DISTINCT. */
export class SelectSteps {
  private last: string | undefined;

  constructor(
    private readonly kit: Kit,
    private readonly of: SelectOf,
  ) {
    this.last = of.flow.last;
  }

  /** @returns the id of the last step; undefined where there is none, all of its rows coming from its left */
  read(): string | undefined {
    const { calls, select, text } = this.of;
    for (const call of calls.filtered) this.aggregateFilter(call);
    if (select.groupClause || calls.hasAggregate || select.havingClause) this.group();
    for (const window of this.windows()) this.window(window);
    if (calls.hasSet) this.expand();
    if (select.distinctClause) this.distinct();
    const columns = this.kit.columns(select);
    if (this.last === undefined)
      return this.kit.add({
        kind: 'source',
        name: 'query',
        span: text,
        inputs: [],
        columns,
        count: this.kit.within(['select count(*) from (\n', text, '\n) as q']),
        looks: [{ name: 'rows', hidden: 0, pieces: this.kit.within([text]) }],
      });
    return this.last;
  }

  /** FROM, WHERE and, where asked for, what groups. */
  private tail(withGroups: boolean): Piece[] {
    const { flow, text } = this.of;
    const clause = (word: string, span: Span | undefined): Piece[] => (span ? [`\n${word} `, span] : []);
    return [
      ...(flow.from.length ? ['\nfrom ', ...flow.from] : []),
      ...(flow.where.length ? ['\nwhere ', ...joined(flow.where, '\n  and ')] : []),
      ...(withGroups ? [...clause('group by', this.groupSpan()), ...clause('having', text.having)] : []),
      ...(withGroups ? clause('window', text.window) : []),
    ];
  }

  private groupSpan(): Span | undefined {
    return this.of.text.group;
  }

  private rowsWith(columns: readonly Piece[]): Piece[] {
    return ['select ', ...columns, ...this.tail(true)];
  }

  // Groups -------------------------------------------------------------------------------------

  private aggregateFilter(call: FuncCall): void {
    const { clauses } = this.kit;
    const at = this.kit.tokenAt(call.location);
    const heads = at === undefined ? [] : [...clauses.outside(at, clauses.words.tokens.length)];
    const filter = heads.find((i) => clauses.words.word(i) === 'filter' && clauses.words.word(i + 1) === '(');
    if (at === undefined || filter === undefined) return;
    const condition = { from: filter + 3, to: clauses.closing(filter + 1) };
    const before = { from: at, to: filter };
    const select = ['count(*) filter (where ', condition, ')'];
    this.kit.add({
      kind: 'filter',
      label: `${this.kit.words(before)} where ${this.kit.words(condition)}`,
      span: { from: filter, to: condition.to + 1 },
      inputs: [this.of.flow.last],
      columns: undefined,
      count: this.kit.within(['select ', ...select, ...this.tail(false)]),
    });
  }

  private group(): void {
    const { select, text, flow } = this.of;
    const keys = this.keys(select.groupClause, text.group);
    const grouping = keys && keys.length > 0 ? ['\ngroup by ', ...keys] : [];
    const groups: Piece[] = ['select count(*) as n', ...this.tail(false), ...grouping];
    const isOne = !select.groupClause;
    const having = text.having;
    const id = this.kit.add({
      kind: 'group',
      label: isOne ? 'all rows in one group' : `by ${this.kit.words(text.group!)}`,
      span: text.group ? { from: text.group.from - 2, to: text.group.to } : { from: text.from, to: text.targets.to },
      inputs: [flow.last],
      ...(isOne ? { known: { rows: 1 } } : keys ? {} : { why: 'GROUP BY names a column of * by its place' }),
      columns: having ? undefined : this.kit.columns(select),
      count: keys && this.kit.within(['select count(*) from (\n', ...groups, '\n) as g']),
      looks: [
        {
          name: 'rows',
          hidden: 0,
          pieces: this.kit.within(['select ', text.targets, ...this.tail(false), ...this.groupClause()]),
        },
      ],
    });
    if (keys && !isOne)
      this.kit.ask(
        [
          [
            { step: id, figure: 'rows' },
            { step: id, figure: 'groups' },
          ],
          [{ step: id, figure: 'largest' }],
        ],
        ['select count(*) as "rows", coalesce(max(n), 0) as "largest" from (\n', ...groups, '\n) as g'],
      );
    this.last = id;
    if (having) this.having(having, keys && grouping);
  }

  private groupClause(): Piece[] {
    const { group } = this.of.text;
    return group ? ['\ngroup by ', group] : [];
  }

  private having(having: Span, grouping: readonly Piece[] | undefined): void {
    const rows = grouping && ['select (', having, ') as h', ...this.tail(false), ...grouping];
    const id = this.kit.add({
      kind: 'filter',
      label: `having ${this.kit.words(having)}`,
      span: { from: having.from - 1, to: having.to },
      inputs: [this.last],
      ...(rows ? {} : { why: 'GROUP BY names a column of * by its place' }),
      columns: this.kit.columns(this.of.select),
      count: rows && this.kit.within(['select count(*) filter (where h) from (\n', ...rows, '\n) as g']),
      looks: [
        {
          name: 'rows',
          hidden: 0,
          pieces: this.kit.within([
            'select ',
            this.of.text.targets,
            ...this.tail(false),
            ...this.groupClause(),
            '\nhaving ',
            having,
          ]),
        },
      ],
    });
    if (rows)
      this.kit.ask(
        [[{ step: id, figure: 'rows' }], [{ step: id, figure: 'unknown' }]],
        [
          'select count(*) filter (where h) as "rows", count(*) filter (where h is null) as "unknown" from (\n',
          ...rows,
          '\n) as g',
        ],
      );
    this.last = id;
  }

  /**
   * The keys of GROUP BY or DISTINCT ON, where a place or the name of an output column stands for its expression.
   * @returns undefined where a place cannot be said
   */
  private keys(nodes: readonly Node[] | undefined, span: Span | undefined, outputFirst = false): Piece[] | undefined {
    if (!nodes || !span) return [];
    const parts = this.kit.clauses.list(span);
    const flat = nodes.every((n) => !('GroupingSet' in n) && !('RowExpr' in n)) && parts.length === nodes.length;
    // Sets of columns that name outputs are left to the author's own text.
    if (!flat) return hasPlaces(nodes) ? undefined : [span];
    const found: Piece[][] = [];
    for (const [i, node] of nodes.entries()) {
      const target = this.targetOf(node, outputFirst);
      if (target === null) return undefined;
      found.push(target ? ['(', target, ')'] : [parts[i]!]);
    }
    return joined(found, ', ');
  }

  /** The expression of the output column that a key means; undefined where it means none, null where it cannot be said. */
  private targetOf(node: Node, outputFirst: boolean): Span | undefined | null {
    const place = 'A_Const' in node && node.A_Const.ival ? (node.A_Const.ival.ival ?? 0) : undefined;
    const name = 'ColumnRef' in node ? strings(node.ColumnRef.fields) : [];
    const targets = this.of.select.targetList ?? [];
    const texts = this.kit.clauses.list(this.of.text.targets);
    if (texts.length !== targets.length) return null;
    if (place !== undefined) return isStar(targets.slice(0, place)) ? null : this.expression(texts[place - 1]);
    if (name.length !== 1 || (!outputFirst && this.of.flow.item.bare.some((f) => f.name === name[0]))) return undefined;
    const at = targets.findIndex((t) => 'ResTarget' in t && t.ResTarget.name === name[0]);
    if (at >= 0) return this.expression(texts[at]);
    return this.of.flow.item.open ? null : undefined;
  }

  /** A target without its name. */
  private expression(target: Span | undefined): Span | null {
    if (!target) return null;
    const { clauses } = this.kit;
    const as = [...clauses.outside(target.from, target.to)].findLast((i) => clauses.words.word(i) === 'as');
    if (as !== undefined && as === target.to - 2) return { from: target.from, to: as };
    return this.hasBareName(target) ? { from: target.from, to: target.to - 1 } : target;
  }

  /** Whether a target ends with its name without `as`. */
  private hasBareName({ from, to }: Span): boolean {
    if (to - from < 2) return false;
    const { words } = this.kit.clauses;
    const [last, before] = [words.tokens[to - 1]!, words.tokens[to - 2]!];
    const isName = last.kind === 'word' || last.kind === 'quoted';
    return isName && words.word(to - 1) !== 'end' && (before.kind !== 'operator' || [')', ']'].includes(before.text));
  }

  // Windows ------------------------------------------------------------------------------------

  /** The partitions that windows divide the rows into, each once, with the text of the first. */
  private windows(): readonly { readonly keys: Span | undefined; readonly span: Span }[] {
    const found = new Map<string, { keys: Span | undefined; span: Span }>();
    for (const call of this.of.calls.windows) {
      const at = this.kit.tokenAt(call.location);
      const window = at === undefined ? undefined : this.definition(call.over!, at);
      if (!window) continue;
      const text = window.keys ? this.kit.words(window.keys) : '';
      if (!found.has(text)) found.set(text, window);
    }
    return [...found.values()];
  }

  private definition(over: WindowDef, at: number): { keys: Span | undefined; span: Span } | undefined {
    const { clauses } = this.kit;
    const { words } = clauses;
    const name = over.name ?? over.refname;
    let open: number | undefined;
    if (name !== undefined && this.of.text.window) {
      const { from, to } = this.of.text.window;
      const named = [...clauses.outside(from, to)].find(
        (i) => words.word(i + 1) === 'as' && wordIs(words.word(i), name),
      );
      open = named === undefined ? undefined : named + 2;
    } else {
      const found = [...clauses.outside(at, words.tokens.length)].find((i) => words.word(i) === 'over');
      open = found === undefined ? undefined : found + 1;
    }
    if (open === undefined || words.word(open) !== '(') return undefined;
    const close = clauses.closing(open);
    const heads = [...clauses.outside(open + 1, close)];
    const partition = heads.find((i) => words.word(i) === 'partition' && words.word(i + 1) === 'by');
    const span = { from: at, to: name === undefined ? close + 1 : at + 1 };
    if (partition === undefined) return { keys: undefined, span };
    const end =
      heads.find((i) => i > partition && ['order', 'rows', 'range', 'groups'].includes(words.word(i))) ?? close;
    return { keys: { from: partition + 2, to: end }, span };
  }

  private window({ keys, span }: { readonly keys: Span | undefined; readonly span: Span }): void {
    const parts = keys ? this.kit.clauses.list(keys) : [];
    const columns = parts.map((p, i): Piece[] => ['(', p, `) as p${i + 1}`]);
    const rows = this.rowsWith(columns.length ? joined(columns, ', ') : ['1 as p1']);
    const by = columns.length ? `\ngroup by ${columns.map((_, i) => `p${i + 1}`).join(', ')}` : '\nhaving count(*) > 0';
    const id = this.kit.add({
      kind: 'window',
      label: keys ? `partitions by ${this.kit.words(keys)}` : 'all rows in one partition',
      span,
      inputs: [this.last],
      ...(this.last === undefined ? {} : { rowsOf: [this.last] }),
      columns: this.kit.columns(this.of.select),
      count: this.kit.within(['select count(*) from (\n', ...this.rowsWith(['1']), '\n) as w']),
      looks: [{ name: 'rows', hidden: 0, pieces: this.kit.within(this.rowsWith([this.of.text.targets])) }],
    });
    this.kit.ask(
      [[{ step: id, figure: 'groups' }], [{ step: id, figure: 'largest' }]],
      [
        'select count(*) as "groups", coalesce(max(n), 0) as "largest" from (\nselect count(*) as n from (\n',
        ...rows,
        `\n) as w${by}\n) as p`,
      ],
    );
    this.last = id;
  }

  // Sets and DISTINCT --------------------------------------------------------------------------

  private expand(): void {
    const rows = this.rowsWith([this.of.text.targets]);
    this.last = this.kit.add(this.wholeRows('expand', 'sets among the columns', rows));
  }

  private wholeRows(kind: 'expand' | 'group', label: string, rows: readonly Piece[]): Made {
    const { text, select } = this.of;
    return {
      kind,
      label,
      span: { from: text.from, to: text.targets.to },
      inputs: [this.last],
      columns: this.kit.columns(select),
      count: this.kit.within(['select count(*) from (\n', ...rows, '\n) as q']),
      looks: [{ name: 'rows', hidden: 0, pieces: this.kit.within(rows) }],
    };
  }

  private distinct(): void {
    const { text, select } = this.of;
    const on = this.kit.clauses.distinctOn(text);
    const nodes = (select.distinctClause ?? []).filter((n) => Object.keys(n).length > 0);
    const keys = on ? this.keyList(nodes, on) : undefined;
    const columns = this.kit.columns(select);
    const rows = this.rowsWith([text.targets]);
    const label = on ? `one a ${this.kit.words(on)}` : 'distinct rows';
    const made = this.wholeRows('group', label, [
      'select ',
      { from: text.from + 1, to: text.targets.to },
      ...this.tail(true),
    ]);
    const id = this.kit.add({
      ...made,
      span: { from: text.from, to: on ? on.to + 1 : text.from + 2 },
    });
    const names = (on ? keys : columns)?.map((_, i) => `d${i + 1}`);
    this.last = id;
    if (!names || names.length === 0 || (on && !keys)) return;
    const inner = on
      ? this.rowsWith(
          joined(
            keys!.map((k, i): Piece[] => ['(', ...k, `) as d${i + 1}`]),
            ', ',
          ),
        )
      : rows;
    this.kit.ask(
      [
        [
          { step: id, figure: 'rows' },
          { step: id, figure: 'groups' },
        ],
        [{ step: id, figure: 'largest' }],
      ],
      [
        'select count(*) as "rows", coalesce(max(n), 0) as "largest" from (\nselect count(*) as n from (\n',
        ...inner,
        `\n) as d${on ? '' : `(${names.join(', ')})`}\ngroup by ${names.join(', ')}\n) as g`,
      ],
    );
  }

  /** The keys of DISTINCT ON, each alone. */
  private keyList(nodes: readonly Node[], span: Span): Piece[][] | undefined {
    const parts = this.kit.clauses.list(span);
    if (parts.length !== nodes.length) return undefined;
    const found = nodes.map((node, i) => this.keys([node], parts[i], true));
    return found.every((k) => k !== undefined) ? found : undefined;
  }
}

const isStar = (targets: readonly Node[]): boolean =>
  targets.some(
    (t) =>
      'ResTarget' in t &&
      t.ResTarget.val &&
      'ColumnRef' in t.ResTarget.val &&
      t.ResTarget.val.ColumnRef.fields?.some((f) => 'A_Star' in f),
  );

/** Whether grouping sets name output columns by their places. */
function hasPlaces(nodes: readonly Node[]): boolean {
  return nodes.some((node): boolean => {
    if ('A_Const' in node) return node.A_Const.ival !== undefined;
    if ('GroupingSet' in node) return hasPlaces(node.GroupingSet.content ?? []);
    return 'RowExpr' in node && hasPlaces(node.RowExpr.args ?? []);
  });
}

const wordIs = (word: string, name: string): boolean => word === name || word === `"${name}"`;
