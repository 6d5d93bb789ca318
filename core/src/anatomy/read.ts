import type { CommonTableExpr, FuncCall, Node, SelectStmt } from 'libpg-query';
import { QueryScopes } from '../columns/columns.js';
import type { Around } from '../columns/reader.js';
import type { FromItem } from '../columns/scope.js';
import { compileText, type Names } from '../compile/compile.js';
import type { IndexedFile, Query } from '../model/project.js';
import { Words, type CommonTable } from '../sql/blocks.js';
import type { EditedText } from '../sql/edits.js';
import { strings } from '../sql/nodes.js';
import { byteToCharacter } from '../sql/positions.js';
import { Clauses, type BodyText, type QueryText, type SelectText, type Span } from './clauses.js';
import { conditionsOf, eachNode, listCondition, type Condition } from './conditions.js';
import { countJoin, joined, rowsOf, type Piece, type Side } from './join.js';
import { readFromText, type FromText, type ItemText, type JoinText } from './joins-text.js';
import type { Anatomy, Figures, Question, Step, StepOrigin } from './step.js';
import { isVolatile } from '../index/moments.js';
import { callsOf } from './calls.js';
import type { Flow, Kit, Made } from './made.js';
import { SelectSteps } from './select-steps.js';

/** What a query is, for its anatomy. */
export interface AnatomyOf {
  readonly file: Pick<IndexedFile, 'text'>;
  readonly query: Query;
  readonly around: Around;
}

/** Makes a statement of the query's pieces one that can be run: names replaced, tables without a place put in. */
export type Finish = (compiled: EditedText) => EditedText;

/**
 * Takes a query apart: its steps in the order in which they are worked out, and the statements that count them. All
 * comes from the text; nothing is asked of a database.
 */
export function anatomyOf(of: AnatomyOf, names: Names, finish: Finish): Anatomy {
  const reader = new AnatomyReader(of, names, finish);
  try {
    return reader.read();
  } catch (error) {
    if (!(error instanceof TooLarge)) throw error;
    return reader.readWhole();
  }
}

/** More than anybody can look through: such a query is one step. Each step costs the text before it. */
const MOST_STEPS = 300;
/** A query in others is read once for each of them. */
const MOST_TOKENS = 20_000;

class TooLarge extends Error {}

/** A common table expression that can be read. */
interface Cte {
  /** It reads itself, or one that comes later. */
  readonly isRecursive: boolean;
  readonly text: CommonTable;
  /** All of its WITH. */
  readonly list: readonly CommonTable[];
  readonly node: CommonTableExpr;
  readonly context: Context;
  /** Its last step, once it was opened. */
  last?: string;
}

/** What is around a query that is inside of another. */
interface Context {
  readonly ctes: ReadonlyMap<string, Cte>;
  /** Puts what has to stand around a statement there. */
  readonly within: (pieces: readonly Piece[]) => Piece[];
  readonly depth: number;
  readonly path: string;
  /** What WITH says before it, where that is one clause. */
  readonly before: Span | 'several' | undefined;
}

interface Asked {
  readonly gives: Question['gives'];
  readonly pieces: readonly Piece[];
  readonly isOptional?: boolean;
}

const LONGEST_LABEL = 80;

class AnatomyReader {
  private readonly clauses: Clauses;
  private readScopes: QueryScopes | undefined;
  private readonly at: (location: number) => number;
  private tokens: ReadonlyMap<number, number> | undefined;
  /** Tokens that begin a call whose result differs each time, each with its name. */
  private readonly unsteady: readonly { readonly token: number; readonly name: string }[];
  private readonly steps: Step[] = [];
  private readonly asked: Asked[] = [];
  private readonly ids = new Map<string, number>();
  private readonly origins = new Map<string, StepOrigin>();

  constructor(
    private readonly of: AnatomyOf,
    private readonly names: Names,
    private readonly finish: Finish,
  ) {
    const { file, query } = of;
    this.clauses = new Clauses(Words.of(file.text, query));
    this.at = byteToCharacter(file.text);
    this.unsteady = this.unsteadyCalls(query.select);
  }

  /** What the parts of the query see; read when it is first asked for. */
  get scopes(): QueryScopes {
    return (this.readScopes ??= new QueryScopes(this.of.query.select, this.of.around));
  }

  /** @throws TooLarge */
  read(): Anatomy {
    if (this.clauses.words.tokens.length > MOST_TOKENS) throw new TooLarge();
    const text = this.clauses.query(0, this.clauses.words.tokens.length);
    const last = this.query(text, this.of.query.select, NO_CONTEXT);
    const columns = this.scopes.columns(this.of.query.select);
    return this.withResult({ span: { from: text.body.from, to: text.to }, to: text.to, columns, last });
  }

  /** All of the query as one step, whatever was read of it before. */
  readWhole(): Anatomy {
    this.steps.length = 0;
    this.asked.length = 0;
    this.ids.clear();
    this.origins.clear();
    const all = { from: 0, to: this.clauses.words.tokens.length };
    // Reading the columns of such a query once more takes long.
    const last = this.whole(all, undefined, NO_CONTEXT, {});
    return this.withResult({ span: all, to: all.to, columns: undefined, last });
  }

  private withResult({
    span,
    to,
    columns,
    last,
  }: {
    readonly span: Span;
    readonly to: number;
    readonly columns: Step['columns'];
    readonly last: string;
  }): Anatomy {
    this.add(NO_CONTEXT, {
      kind: 'result',
      span,
      inputs: [last],
      rowsOf: [last],
      columns,
      count: ['select count(*) from (\n', { from: 0, to }, '\n) as q'],
      looks: [{ name: 'rows', hidden: 0, pieces: [{ from: 0, to }] }],
    });
    const given = new Set(this.asked.flatMap((q) => q.gives.flat().map((g) => (g.figure === 'rows' ? g.step : ''))));
    const questions = this.asked.map((q) => this.question(q));
    for (const step of this.steps) {
      if (given.has(step.id) || step.rowsOf || step.known.rows !== undefined || !step.count) continue;
      questions.push({ gives: [[{ step: step.id, figure: 'rows' }]], sql: step.count });
    }
    const scopes = () => this.scopes;
    return { steps: this.steps, questions, origins: this.origins, clauses: this.clauses, scopes };
  }

  private question({ gives, pieces, isOptional }: Asked): Question {
    return { gives, sql: this.sql(pieces), ...(isOptional ? { isOptional } : {}) };
  }

  // Statements ---------------------------------------------------------------------------------

  private sql(pieces: readonly Piece[]): () => EditedText {
    const { file, query } = this.of;
    return () => {
      const parts = pieces.flatMap((p): { text: string; original?: EditedText['original'] }[] => {
        if (typeof p === 'string') return [{ text: p }];
        return p.from < p.to ? [compileText(file as IndexedFile, this.clauses.range(p), query, this.names)] : [];
      });
      const starts: number[] = [];
      let text = '';
      for (const part of parts) {
        starts.push(text.length);
        text += part.text;
      }
      return this.finish({
        text,
        original(offset) {
          for (let i = starts.findLastIndex((s) => s <= offset); i >= 0; i--) {
            const part = parts[i]!;
            if (part.original) return part.original(Math.min(offset - starts[i]!, part.text.length));
          }
          return query.start;
        },
      });
    };
  }

  private add(context: Context, made: Made): string {
    if (this.steps.length >= MOST_STEPS) throw new TooLarge();
    const label = made.label ?? this.words(made.span);
    const stem = `${context.path}${made.kind}${made.kind === 'source' || made.kind === 'join' ? ` ${made.table ?? made.name ?? ''}` : ''}`;
    const nth = (this.ids.get(stem) ?? 0) + 1;
    this.ids.set(stem, nth);
    const id = nth === 1 ? stem : `${stem} ${nth}`;
    const unsteady = made.why === undefined && made.kind !== 'result' ? this.unsteadyIn(made.count ?? []) : undefined;
    const why = unsteady === undefined ? made.why : differs(unsteady);
    this.steps.push({
      id,
      kind: made.kind,
      label: label.length > LONGEST_LABEL ? `${label.slice(0, LONGEST_LABEL)}…` : label,
      depth: context.depth,
      inputs: made.inputs.filter((i) => i !== undefined),
      ...this.clauses.range(made.span),
      ...(made.name === undefined ? {} : { name: made.name }),
      ...(made.table === undefined ? {} : { table: made.table }),
      ...(made.join === undefined ? {} : { join: made.join }),
      ...(made.key === undefined ? {} : { key: made.key }),
      ...(made.rowsOf && why === undefined && this.areCounted(made.rowsOf) ? { rowsOf: made.rowsOf } : {}),
      ...(why === undefined ? {} : { why }),
      known: why === undefined ? (made.known ?? {}) : {},
      columns: made.columns,
      looks: (made.looks ?? []).map(({ name, hidden, pieces }) => ({ name, hidden, sql: this.sql(pieces) })),
      count: why === undefined && made.count ? this.sql(made.count) : undefined,
    });
    return id;
  }

  private areCounted(ids: readonly string[]): boolean {
    return ids.every((id) => this.steps.find((s) => s.id === id)!.why === undefined);
  }

  /** Asks for figures of steps, unless a call in the statement would give others each time. */
  private ask(gives: Question['gives'], pieces: readonly Piece[], isOptional = false): void {
    if (this.unsteadyIn(pieces) === undefined) this.asked.push({ gives, pieces, isOptional });
  }

  private unsteadyIn(pieces: readonly Piece[]): string | undefined {
    return this.unsteady.find(({ token }) =>
      pieces.some((p) => typeof p !== 'string' && p.from <= token && token < p.to),
    )?.name;
  }

  private words(span: Span): string {
    const { start, end } = this.clauses.range(span);
    return this.of.file.text.slice(start, end).replace(/\s+/g, ' ');
  }

  private tokenAt = (location: number | undefined): number | undefined => this.tokenFrom(this.at(location ?? 0));

  /** The token that begins at a character. */
  private tokenFrom(start: number): number | undefined {
    this.tokens ??= new Map(this.clauses.words.tokens.map((token, i) => [token.start, i]));
    return this.tokens.get(start);
  }

  private endOfName = (token: number): number => {
    let end = token + 1;
    while (this.clauses.words.word(end) === '.') end += 2;
    return end;
  };

  private unsteadyCalls(select: SelectStmt): { token: number; name: string }[] {
    const found: { token: number; name: string }[] = [];
    eachNode({ SelectStmt: select }, (kind, value) => {
      if (kind !== 'FuncCall' && kind !== 'RangeTableSample') return;
      const { location, funcname } = value as FuncCall;
      const name = kind === 'FuncCall' ? strings(funcname).at(-1)! : 'repeatable' in value ? '' : 'tablesample';
      if (kind === 'FuncCall' && name !== 'nextval' && !isVolatile(name)) return;
      const token = this.tokenAt(location);
      if (token !== undefined && name !== '') found.push({ token, name });
    });
    return found;
  }

  // Queries ------------------------------------------------------------------------------------

  /** @returns the id of its last step */
  private query(text: QueryText, select: SelectStmt, around: Context): string {
    const context = text.ctes.length ? this.withCtes(text, select, around) : around;
    const last = this.body(text.body, select, context);
    if (!text.isCut) return last;
    const whole = { from: text.body.from, to: text.to };
    const columns = this.scopes.columns(select);
    return this.add(context, {
      kind: 'limit',
      span: text.tail,
      inputs: [last],
      columns,
      count: context.within(['select count(*) from (\n', whole, '\n) as q']),
      looks: [{ name: 'rows', hidden: 0, pieces: context.within([whole]) }],
    });
  }

  private withCtes(text: QueryText, select: SelectStmt, around: Context): Context {
    const ctes = new Map(around.ctes);
    const nodes = select.withClause?.ctes ?? [];
    const within =
      (to: number): Context['within'] =>
      (pieces) =>
        around.within([{ from: text.with.from, to }, ' select * from (\n', ...pieces, '\n) as "inside"']);
    const toBefore = (span: Span) => (around.before === undefined ? span : ('several' as const));
    for (const [i, cte] of text.ctes.entries()) {
      const node = nodes.find((n) => 'CommonTableExpr' in n && n.CommonTableExpr.ctename === cte.name);
      if (!node || !('CommonTableExpr' in node)) continue;
      const before = text.ctes[i - 1];
      const visible = { ...around, ctes: new Map(ctes), depth: around.depth + 1, path: `${around.path}${cte.name} > ` };
      const behind = before && this.tokenFrom(cte.named.start)! - 1;
      ctes.set(cte.name, {
        text: cte,
        isRecursive: readsOne(
          node.CommonTableExpr,
          text.ctes.slice(i).map((c) => c.name),
        ),
        node: node.CommonTableExpr,
        context:
          behind === undefined
            ? visible
            : { ...visible, within: within(behind), before: toBefore({ from: text.with.from, to: behind }) },
        list: text.ctes,
      });
    }
    return { ...around, ctes, within: within(text.with.to), before: toBefore(text.with) };
  }

  private body(text: BodyText, select: SelectStmt, context: Context): string {
    if (text.kind === 'brackets') return this.query(text.inner, select, context);
    if (text.kind === 'set' && select.larg && select.rarg) return this.stack(text, select, context);
    if (text.kind === 'select' && !select.op?.match(/UNION|INTERSECT|EXCEPT/) && select.targetList) {
      const read = this.select(text, select, context);
      if (read !== undefined) return read;
    }
    const count = select.valuesLists?.length;
    return this.whole(text, select, context, count === undefined ? {} : { rows: count });
  }

  /** What is not taken apart, as one step. */
  private whole(text: Span, select: SelectStmt | undefined, context: Context, known: Figures): string {
    return this.add(context, {
      kind: 'source',
      name: known.rows === undefined ? 'query' : 'values',
      span: text,
      inputs: [],
      known,
      columns: select && this.scopes.columns(select),
      count: context.within(['select count(*) from (\n', text, '\n) as q']),
      looks: [{ name: 'rows', hidden: 0, pieces: context.within([text]) }],
    });
  }

  private stack(text: Extract<BodyText, { kind: 'set' }>, select: SelectStmt, context: Context): string {
    const isUnionAll = text.word === 'union' && text.isAll;
    const inputs: string[] = [];
    const arms = (body: BodyText, node: SelectStmt): void => {
      const isSame = body.kind === 'set' && body.word === text.word && body.isAll === text.isAll;
      if (isSame && body.kind === 'set' && node.larg && node.rarg && body.word !== 'except') {
        arms(body.left, node.larg);
        arms(body.right, node.rarg);
      } else inputs.push(this.body(body, node, { ...context, path: `${context.path}arm ${inputs.length + 1} > ` }));
    };
    arms(text.left, select.larg!);
    arms(text.right, select.rarg!);
    return this.add(context, {
      kind: 'stack',
      label: `${text.word}${text.isAll ? ' all' : ''}`,
      span: text,
      inputs,
      ...(isUnionAll ? { rowsOf: inputs } : {}),
      columns: this.scopes.columns(select),
      count: context.within(['select count(*) from (\n', text, '\n) as q']),
      looks: [{ name: 'rows', hidden: 0, pieces: context.within([text]) }],
    });
  }

  // One select ---------------------------------------------------------------------------------

  private select(text: SelectText, select: SelectStmt, context: Context): string | undefined {
    const nodes = select.fromClause ?? [];
    const items = text.from_ ? readFromText(this.clauses, text.from_, nodes) : [];
    if (!items || (text.from_ === undefined) !== (nodes.length === 0)) return undefined;
    const conditions =
      select.whereClause && text.where ? conditionsOf(this.clauses, text.where, select.whereClause) : [];
    const calls = callsOf(select, this.of.around);
    const [from, left] = items.length
      ? this.commas(items, conditions, context)
      : ([this.noRows(text, context), conditions] as const);
    const flow = this.filters(from, left, { text, select, context });
    return new SelectSteps(this.kit(context), { text, select, calls, flow }).read();
  }

  private noRows(text: SelectText, context: Context): Flow {
    const last = this.add(context, {
      kind: 'source',
      name: 'one row',
      label: 'one row',
      span: { from: text.from, to: text.targets.to },
      inputs: [],
      known: { rows: 1 },
    });
    return { from: ['(values (1)) as "one row"'], where: [], item: { ranges: [], bare: [], open: false }, last };
  }

  /** Items side by side: a comma joins by those conditions of WHERE that are about both sides. */
  private commas(
    items: readonly FromText[],
    conditions: readonly Condition[],
    context: Context,
  ): readonly [Flow, readonly Condition[]] {
    let flow = this.item(items[0]!, context);
    let rest = conditions;
    for (const item of items.slice(1)) {
      const right = this.item(item, context);
      const together = { from: this.fromOf(flow, item), item: both(flow.item, right.item) };
      const joining = rest.filter((c) => this.isEquality(c, flow, right));
      rest = rest.filter((c) => !joining.includes(c));
      const where = [...flow.where, ...joining.map((c): Piece[] => ['(', c.span, ')'])];
      const last = this.join(
        { type: joining.length ? 'inner' : 'cross', left: flow, right, conditions: joining, using: [] },
        {
          span: joining.length ? { from: item.from, to: item.to } : item,
          label: joining.length
            ? `, ${this.words(item)} where ${joining.map((c) => this.words(c.span)).join(' and ')}`
            : `, ${this.words(item)}`,
          after: { from: together.from, where },
          item,
          result: together.item,
        },
        context,
      );
      flow = { ...together, where, last };
    }
    return [flow, rest];
  }

  private fromOf(flow: Flow, item: Span): Piece[] {
    return [...flow.from, ', ', { from: item.from, to: item.to }];
  }

  /** Whether a condition of WHERE equals columns of both sides of a comma. */
  private isEquality({ node }: Condition, left: Side, right: Side): boolean {
    if (!('A_Expr' in node) || node.A_Expr.kind !== 'AEXPR_OP' || strings(node.A_Expr.name).join() !== '=')
      return false;
    let isPlain = true;
    const sides = new Set<string>();
    eachNode(node, (kind, value) => {
      if (kind === 'SubLink' || kind === 'FuncCall') isPlain = false;
      if (kind !== 'ColumnRef') return;
      const names = strings((value as { fields?: Node[] }).fields);
      const isIn = ({ item }: Side) =>
        names.length > 1
          ? item.ranges.some((r) => r.name === names.at(-2))
          : item.bare.some((f) => f.name === names[0]);
      sides.add(isIn(left) ? 'left' : isIn(right) ? 'right' : 'none');
    });
    return isPlain && sides.has('left') && sides.has('right') && !sides.has('none');
  }

  private item(text: FromText, context: Context): Flow {
    if (text.kind === 'join') return this.joinItem(text, context);
    const item = this.scopes.item(text.node);
    return { from: [{ from: text.from, to: text.to }], where: [], item, last: this.source(text, item, context) };
  }

  private source(text: ItemText, item: FromItem, context: Context): string | undefined {
    const { node } = text;
    const columns = this.columnsOf(item);
    const plain = (more: Partial<Made>): string =>
      this.add(context, {
        kind: 'source',
        span: text,
        inputs: [],
        columns,
        count: context.within(['select count(*) from ', text]),
        looks: [{ name: 'rows', hidden: 0, pieces: context.within(['select * from ', text]) }],
        ...more,
      });
    if ('RangeVar' in node) {
      const { schemaname, relname = '', alias } = node.RangeVar;
      const cte = schemaname === undefined ? context.ctes.get(relname) : undefined;
      if (cte) return this.cte(cte, relname, plain);
      const name = alias?.aliasname ?? relname;
      return plain(
        schemaname === undefined ? { name } : { table: `${schemaname}.${relname}`, name, label: this.words(text) },
      );
    }
    if ('RangeSubselect' in node) {
      const { lateral, subquery, alias } = node.RangeSubselect;
      if (lateral || !subquery || !('SelectStmt' in subquery)) return undefined;
      const name = alias?.aliasname ?? '';
      const inner = { ...context, depth: context.depth + 1, path: `${context.path}${name} > ` };
      const close = this.clauses.closing(text.from, text.to);
      const last = this.named(this.query(this.clauses.query(text.from + 1, close), subquery.SelectStmt, inner), name);
      this.origins.set(last, {
        kind: 'subquery',
        brackets: { from: text.from, to: close + 1 },
        before: context.before,
      });
      return last;
    }
    return readsColumns(node) ? undefined : plain({ name: item.ranges[0]?.name ?? 'function' });
  }

  /** A common table expression is opened where it is read first. */
  private cte(cte: Cte, name: string, plain: (more: Partial<Made>) => string): string {
    if (cte.last !== undefined)
      return plain({ name, label: `${name}, as above`, rowsOf: [cte.last], inputs: [cte.last] });
    const query = cte.node.ctequery && 'SelectStmt' in cte.node.ctequery ? cte.node.ctequery.SelectStmt : undefined;
    if (!query || cte.isRecursive) {
      // One query further in, PostgreSQL leaves the columns of SEARCH and CYCLE out of `*`.
      const { search_clause, cycle_clause } = cte.node;
      const marked = search_clause || cycle_clause ? { columns: undefined } : {};
      return (cte.last = plain({ name, label: `${name}, a recursion`, ...marked }));
    }
    const text = this.clauses.query(cte.text.open + 1, cte.text.close);
    cte.last = this.named(this.query(text, query, cte.context), name);
    this.origins.set(cte.last, {
      kind: 'cte',
      name,
      text: cte.text,
      list: cte.list,
      node: cte.node,
      before: cte.context.before,
    });
    return cte.last;
  }

  /** The last step of a query bears its name. */
  private named(id: string, name: string): string {
    const at = this.steps.findIndex((s) => s.id === id);
    if (this.steps[at]!.name === undefined || this.steps[at]!.kind !== 'source')
      this.steps[at] = { ...this.steps[at]!, name };
    return id;
  }

  // Joins --------------------------------------------------------------------------------------

  private joinItem(text: JoinText, context: Context): Flow {
    const { jointype, quals, usingClause, isNatural } = text.node.JoinExpr;
    const left = this.item(text.left, context);
    const right = this.item(text.right, context);
    const item = this.scopes.item(text.node);
    const conditions = quals && text.on ? conditionsOf(this.clauses, text.on, quals) : [];
    const using = isNatural ? this.naturalColumns(left.item, right.item) : strings(usingClause);
    const type = TYPES[jointype ?? ''] ?? 'inner';
    const isCross = type === 'inner' && !conditions.length && using?.length === 0 && !isNatural;
    const from: Piece[] = [{ from: text.from, to: text.to }];
    const last = this.join(
      { type: isCross ? 'cross' : type, left, right, conditions, using },
      { span: text.label, label: this.words(text.label), after: { from, where: [] }, item: text.right, result: item },
      context,
    );
    this.origins.set(last, { kind: 'flow', span: { from: text.from, to: text.to }, item, before: context.before });
    return { from, where: [], item, last };
  }

  private naturalColumns(left: FromItem, right: FromItem): string[] | undefined {
    if (left.open || right.open) return undefined;
    const names = new Set(right.bare.map((f) => f.name));
    return left.bare.map((f) => f.name).filter((n) => names.has(n));
  }

  private join(
    of: Pick<Parameters<typeof countJoin>[0], 'type' | 'conditions' | 'using'> & { left: Flow; right: Flow },
    as: { span: Span; label: string; after: Pick<Side, 'from' | 'where'>; item: FromText; result: FromItem },
    context: Context,
  ): string {
    const { left, right } = of;
    const isLateral = right.last === undefined || left.last === undefined;
    const counted = isLateral
      ? undefined
      : countJoin({
          ...of,
          tokenAt: this.tokenAt,
          words: (span) => this.words(span),
          endOfName: this.endOfName,
          equals: (span) => this.clauses.only(span, '='),
          typeOf: (node, item) => this.scopes.typeOf(node, item),
        });
    const table = as.item.kind === 'item' && 'RangeVar' in as.item.node ? as.item.node.RangeVar : undefined;
    const isCross = of.type === 'cross';
    const pieces = context.within(rowsOf(as.after, ['count(*)']));
    const id = this.add(context, {
      kind: 'join',
      join: of.type,
      span: as.span,
      label: as.label,
      name: right.item.ranges[0]?.name ?? '',
      ...(table?.schemaname ? { table: `${table.schemaname}.${table.relname}` } : {}),
      inputs: [left.last, right.last],
      ...(counted ? { key: counted.key } : {}),
      columns: this.columnsOf(as.result),
      count: pieces,
      looks: [
        { name: 'rows', hidden: 0, pieces: context.within(rowsOf(as.after, ['*'])) },
        ...(counted && !isCross ? counted.looks.map((look) => ({ ...look, pieces: context.within(look.pieces) })) : []),
      ],
    });
    if (counted && !isCross)
      this.ask(
        counted.gives.map((figure) => [
          { step: id, figure },
          ...(figure === 'left' ? [{ step: left.last!, figure: 'rows' as const }] : []),
          ...(figure === 'right' ? [{ step: right.last!, figure: 'rows' as const }] : []),
        ]),
        context.within(counted.pieces),
      );
    return id;
  }

  // Filters ------------------------------------------------------------------------------------

  private filters(
    from: Flow,
    conditions: readonly Condition[],
    { text, select, context }: { text: SelectText; select: SelectStmt; context: Context },
  ): Flow {
    let flow = from;
    for (const group of grouped(conditions)) {
      const condition = joined(
        group.map((c): Piece[] => ['(', c.span, ')']),
        '\n  and ',
      );
      const before = { from: flow.from, where: flow.where };
      const after = { from: flow.from, where: [...flow.where, condition] };
      const list = group.length === 1 ? listCondition(group[0]!.node) : undefined;
      const isExists = list?.link.subLinkType === 'EXISTS_SUBLINK';
      const span = { from: group[0]!.span.from, to: group.at(-1)!.span.to };
      const isAll = group.length === conditions.length && text.where !== undefined && conditions.length > 0;
      const last = this.add(context, {
        kind: 'filter',
        label: `${list ? '' : 'where '}${group.map((c) => this.words(c.span)).join(' and ')}`,
        span: isAll && select.whereClause ? { from: text.where!.from - 1, to: text.where!.to } : span,
        inputs: [flow.last],
        columns: this.columnsOf(flow.item),
        count: context.within(rowsOf(after, ['count(*)'])),
        looks: [
          { name: 'rows', hidden: 0, pieces: context.within(rowsOf(after, ['*'])) },
          ...(isExists
            ? []
            : [
                {
                  name: 'unknown' as const,
                  hidden: 0,
                  pieces: context.within(
                    rowsOf({ from: flow.from, where: [...flow.where, ['(', ...condition, ') is null']] }, ['*']),
                  ),
                },
              ]),
        ],
      });
      // EXISTS is never null, and planned as a join only where it stands in WHERE.
      if (!isExists)
        this.ask(
          [[{ step: last, figure: 'rows' }], [{ step: last, figure: 'unknown' }]],
          context.within(
            rowsOf(before, [
              'count(*) filter (where ',
              ...condition,
              ') as "rows", count(*) filter (where (',
              ...condition,
              ') is null) as "unknown"',
            ]),
          ),
        );
      if (list?.isNot && list.link.subLinkType === 'ANY_SUBLINK') this.askForNulls(last, span, context);
      flow = { ...flow, where: after.where, last };
    }
    if (flow.last !== undefined && flow.last !== from.last && text.from_ && text.where) {
      const span = { from: text.from_.from, to: text.where.to };
      this.origins.set(flow.last, { kind: 'flow', span, item: flow.item, before: context.before });
    }
    return flow;
  }

  /** How many nulls the list of a NOT IN has: one makes the condition never true. */
  private askForNulls(step: string, span: Span, context: Context): void {
    const heads = [...this.clauses.outside(span.from, span.to)];
    const open = heads.findLast((i) => this.clauses.words.word(i) === '(');
    if (open === undefined || !['select', 'with', 'values'].includes(this.clauses.words.word(open + 1))) return;
    const inside = { from: open + 1, to: this.clauses.closing(open, span.to) };
    this.ask(
      [[{ step, figure: 'listNulls' }]],
      context.within(['select count(*) from (\n', inside, '\n) as "list"("value") where "value" is null']),
      true,
    );
  }

  private columnsOf({ open, bare }: FromItem): readonly string[] | undefined {
    return open ? undefined : bare.filter((f) => !f.hidden).map((f) => f.name);
  }

  private kit(context: Context): Kit {
    return {
      add: (made) => this.add(context, made),
      ask: (gives, pieces) => this.ask(gives, context.within(pieces)),
      clauses: this.clauses,
      words: (span) => this.words(span),
      tokenAt: this.tokenAt,
      columns: (select) => this.scopes.columns(select),
      within: context.within,
    };
  }
}

const NO_CONTEXT: Context = { ctes: new Map(), within: (p) => [...p], depth: 0, path: '', before: undefined };

const TYPES: Readonly<Record<string, 'inner' | 'left' | 'right' | 'full'>> = {
  JOIN_INNER: 'inner',
  JOIN_LEFT: 'left',
  JOIN_RIGHT: 'right',
  JOIN_FULL: 'full',
};

const differs = (call: string) =>
  call === 'tablesample'
    ? 'a sample differs each time it is taken'
    : `${call}() returns something else each time it is called`;

const both = (a: FromItem, b: FromItem): FromItem => ({
  ranges: [...a.ranges, ...b.ranges],
  bare: [...a.bare, ...b.bare],
  open: a.open || b.open,
});

/** Conditions that follow each other, those over the rows of other queries each alone. */
function grouped(conditions: readonly Condition[]): readonly (readonly Condition[])[] {
  const groups: Condition[][] = [];
  let isOpen = false;
  for (const condition of conditions) {
    const isList = listCondition(condition.node) !== undefined;
    if (isOpen && !isList) groups.at(-1)!.push(condition);
    else groups.push([condition]);
    isOpen = !isList;
  }
  return groups;
}

/** Whether a function of FROM reads columns: those of what stands to its left. */
function readsColumns(node: Node): boolean {
  let found = false;
  eachNode(node, (kind) => {
    if (kind === 'ColumnRef') found = true;
  });
  return found;
}

/** Whether a common table expression reads one of some names. */
function readsOne(cte: CommonTableExpr, names: readonly string[]): boolean {
  let found = false;
  eachNode(cte.ctequery, (kind, value) => {
    const { relname, schemaname } = value as { relname?: string; schemaname?: string };
    if (kind === 'RangeVar' && schemaname === undefined && names.includes(relname ?? '')) found = true;
  });
  return found;
}
