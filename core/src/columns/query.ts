import type { CTECycleClause, CTESearchClause, CommonTableExpr, Node, SelectStmt } from 'libpg-query';
import { commonType } from '../catalog/coercion.js';
import { typeOfKey } from '../catalog/type-names.js';
import { strings } from '../sql/nodes.js';
import { commonModifier, commonOf, withoutUnknown } from './common.js';
import { expandStar } from './rows.js';
import { readFrom, renamed } from './from.js';
import { firstLocation } from './location.js';
import { placementProblems, recursionProblems } from './placement.js';
import { outputName } from './output-name.js';
import { asStep, readEach, type CteEntry, type Ctes, type Place, type Reader } from './reader.js';
import { EMPTY, fieldOf, within, type Fields, type Scope } from './scope.js';
import { CONSTANT, Gathered, mergeOf, NOTHING, stronger, union, type Block, type Field, type Value } from './value.js';

interface Around {
  readonly outer: Scope | undefined;
  readonly ctes: Ctes;
  readonly keepsUnknown?: boolean;
}

const UNKNOWN_BLOCK: Block = { fields: undefined, rows: NOTHING };

/** The columns of a query, with what gives and what influences each, and what decides which rows it has. */
export function readQuery(reader: Reader, select: SelectStmt, around: Around): Block {
  if (reader.budget.left-- <= 0) return UNKNOWN_BLOCK;
  const ctes = select.withClause ? withCtes(reader, select, around) : around.ctes;
  const inner = { ...around, ctes };
  const block =
    select.op && select.op !== 'SETOP_NONE'
      ? setOperation(reader, select, inner)
      : select.valuesLists
        ? valuesBlock(reader, select, inner)
        : selectBlock(reader, select, inner);
  if (select.withClause) readAllCtes(select, ctes);
  reader.scopes?.blocks.set(select, block);
  return around.keepsUnknown ? block : { ...block, fields: block.fields?.map(withoutUnknown) };
}

function selectBlock(reader: Reader, select: SelectStmt, { outer, ctes }: Around): Block {
  const rows = new Gathered();
  const windows = select.windowClause ?? [];
  const scope = readFrom(reader, select.fromClause ?? [], { scope: within(EMPTY, outer), ctes, windows, rows });
  const place: Place = { scope, ctes, windows, rows };
  const fields = targetFields(reader, select.targetList ?? [], place);
  if (select.whereClause) rows.addAll(reader.expression(reader, select.whereClause, place));
  const orderPlace = (first: boolean): Place => ({ ...place, scope: { ...scope, output: { fields, first } } });
  for (const key of groupKeys(select.groupClause)) rows.addAll(sortValue(reader, key, orderPlace(false), fields));
  const sorts = (select.sortClause ?? []).map((s) => ('SortBy' in s && s.SortBy.node ? s.SortBy.node : s));
  const sorted = sorts.map((s) => sortValue(reader, s, orderPlace(true), fields));
  const distinct = (select.distinctClause ?? []).filter((n) => Object.keys(n).length > 0);
  if (select.distinctClause) {
    // Alone it compares whole rows; with ON it keeps the first of each group in the order.
    const keys = distinct.length ? distinct.map((n) => sortValue(reader, n, orderPlace(true), fields)) : (fields ?? []);
    for (const value of distinct.length ? [...keys, ...sorted] : keys) rows.addAll(value);
  }
  if (select.havingClause) rows.addAll(reader.expression(reader, select.havingClause, place));
  for (const window of windows) if ('WindowDef' in window) readWindow(reader, window.WindowDef, place);
  placementProblems(reader, select, { scope, ctes, fields });
  limit(reader, select, { outer, ctes, rows, sorted });
  for (const lock of select.lockingClause ?? [])
    if ('LockingClause' in lock) lockedTables(reader, lock.LockingClause, scope);
  return { fields, rows: rows.all };
}

/** FOR UPDATE OF names what is in FROM. */
function lockedTables(reader: Reader, { lockedRels }: { readonly lockedRels?: Node[] }, scope: Scope): void {
  for (const node of lockedRels ?? []) {
    if (!('RangeVar' in node)) continue;
    const name = node.RangeVar.relname ?? '';
    if (!scope.ranges.some((r) => r.name === name))
      reader.problems.push({
        kind: 'unknown-range',
        location: node.RangeVar.location ?? 0,
        parts: [name],
        names: scope.ranges.map((r) => r.name),
      });
  }
}

/** A window that no function uses decides nothing; its names are read all the same. */
function readWindow(reader: Reader, window: { partitionClause?: Node[]; orderClause?: Node[] }, place: Place): void {
  readEach(reader, window.partitionClause, place);
  for (const node of window.orderClause ?? [])
    if ('SortBy' in node && node.SortBy.node) reader.expression(reader, node.SortBy.node, place);
}

/** LIMIT and OFFSET: what they are made from, and the order that they cut, decide the rows. */
function limit(
  reader: Reader,
  select: SelectStmt,
  at: {
    readonly outer: Scope | undefined;
    readonly ctes: Ctes;
    readonly rows: Gathered;
    readonly sorted: readonly Value[];
  },
): void {
  const bounds = [select.limitCount, select.limitOffset].filter((n) => n !== undefined);
  if (bounds.length === 0) return;
  const place = { scope: within(EMPTY, at.outer), ctes: at.ctes, windows: [], rows: at.rows };
  for (const value of [...readEach(reader, bounds, place), ...at.sorted]) at.rows.addAll(value);
}

/** What is grouped by, grouping sets unfolded. */
function groupKeys(nodes: readonly Node[] | undefined): Node[] {
  return (nodes ?? []).flatMap((node): Node[] => {
    if ('GroupingSet' in node) return groupKeys(node.GroupingSet.content);
    return 'RowExpr' in node && node.RowExpr.row_format === 'COERCE_IMPLICIT_CAST'
      ? groupKeys(node.RowExpr.args)
      : [node];
  });
}

/** A key of GROUP BY, ORDER BY or DISTINCT ON: a number is the place of an output column. */
function sortValue(reader: Reader, node: Node, place: Place, fields: Fields): Value {
  if ('A_Const' in node && node.A_Const.ival) return fields?.[(node.A_Const.ival.ival ?? 0) - 1] ?? CONSTANT;
  // Names of output columns are for a name that stands alone.
  if ('ColumnRef' in node && strings(node.ColumnRef.fields).length === 1) return reader.expression(reader, node, place);
  return reader.expression(reader, node, { ...place, scope: { ...place.scope, output: undefined } });
}

/** PostgreSQL takes 1,664. */
const MOST_FIELDS = 10_000;

function targetFields(reader: Reader, targets: readonly Node[], place: Place): Fields {
  const fields: Field[] = [];
  let known = true;
  for (const node of targets) {
    if (!('ResTarget' in node) || !node.ResTarget.val) continue;
    const { name, val, location } = node.ResTarget;
    const star = expandStar(reader, val, place);
    if (star === undefined) {
      const named = { name: name ?? outputName(val), location };
      fields.push(asStep(reader, named, () => ({ ...reader.expression(reader, val, place), name: named.name })));
    } else if (star === null) known = false;
    else for (const field of star) fields.push(field);
    // A query of queries that take all columns twice would have more than memory holds.
    if (fields.length > MOST_FIELDS) return undefined;
  }
  return known ? fields : undefined;
}

function valuesBlock(reader: Reader, select: SelectStmt, { outer, ctes }: Around): Block {
  const rows = new Gathered();
  const place = { scope: within(EMPTY, outer), ctes, windows: [], rows };
  const lists = select.valuesLists!.map((list) =>
    valuesOf(reader, 'List' in list ? (list.List.items ?? []) : [], place),
  );
  const fields = (lists[0] ?? []).map((_, i): Field => {
    const values = lists.flatMap((list) => (list[i] ? [list[i]] : []));
    const common = values.length > 1 ? commonOf(reader.catalog, values) : values[0]!;
    return { ...common, name: `column${i + 1}` };
  });
  const sorts = (select.sortClause ?? []).flatMap((s) => ('SortBy' in s && s.SortBy.node ? [s.SortBy.node] : []));
  const sorted = sorts.map((s) =>
    sortValue(reader, s, { ...place, scope: { ...place.scope, output: { fields, first: true } } }, fields),
  );
  limit(reader, select, { outer, ctes, rows, sorted });
  return { fields, rows: rows.all };
}

/** A row of VALUES; rows of tables in it are taken apart. */
const valuesOf = (reader: Reader, items: readonly Node[], place: Place): readonly Value[] =>
  items.flatMap(
    (item): readonly Value[] => expandStar(reader, item, place) ?? [reader.expression(reader, item, place)],
  );

// Set operations ---------------------------------------------------------------------------------

function setOperation(reader: Reader, select: SelectStmt, around: Around): Block {
  const arm = { ...around, keepsUnknown: true };
  const left = readQuery(reader, select.larg!, arm);
  const right = readQuery(reader, select.rarg!, arm);
  if (left.fields && right.fields && left.fields.length !== right.fields.length) {
    const location = firstLocation(select.rarg) ?? 0;
    reader.problems.push({ kind: 'arms', location, left: left.fields.length, right: right.fields.length });
  }
  const rows = new Gathered();
  rows.add(left.rows);
  rows.add(right.rows);
  const isUnion = select.op === 'SETOP_UNION';
  const fields = left.fields?.map((f, i) =>
    stacked(reader, f, right.fields?.[i], { isUnion, isKnown: right.fields !== undefined }),
  );
  if (!isUnion) for (const f of [...(left.fields ?? []), ...(right.fields ?? [])]) rows.addAll(f);
  else if (!select.all) for (const f of fields ?? []) rows.addAll(f);
  const scope = { ...within(EMPTY, around.outer), output: { fields, first: true } };
  const place = { scope, ctes: around.ctes, windows: [], rows };
  const sorted = (select.sortClause ?? []).flatMap((s) =>
    'SortBy' in s && s.SortBy.node ? [sortValue(reader, s.SortBy.node, place, fields)] : [],
  );
  limit(reader, select, { ...around, rows, sorted });
  return { fields, rows: rows.all };
}

/** A column of two arms. Where the second is not known, the name is the first's and the type is not known. */
function stacked(
  reader: Reader,
  left: Field,
  right: Field | undefined,
  { isUnion, isKnown }: { readonly isUnion: boolean; readonly isKnown: boolean },
): Field {
  const key = isKnown && right ? commonType(reader.catalog, [left.type?.key, right.type?.key]) : undefined;
  const type =
    key === undefined
      ? undefined
      : left.type?.fields && left.type.key === key
        ? left.type
        : typeOfKey(key, commonModifier(key, [left.type, right?.type]));
  if (!isUnion || !right) return { ...left, type };
  return {
    name: left.name,
    type,
    value: union(left.value, right.value),
    influence: union(left.influence, right.influence),
    kind: stronger(left.kind, right.kind),
    ...(left.step && right.step
      ? { step: { name: left.name, location: undefined, uses: [left.step, right.step] } }
      : {}),
  };
}

// WITH -------------------------------------------------------------------------------------------

function withCtes(reader: Reader, select: SelectStmt, around: Around): Ctes {
  const clause = select.withClause!;
  const ctes = new Map(around.ctes);
  for (const node of clause.ctes ?? []) {
    if (!('CommonTableExpr' in node)) continue;
    const cte = node.CommonTableExpr;
    if (clause.recursive) recursionProblems(reader, cte);
    // In a recursive WITH each sees all, later ones too; else each sees those before it.
    const visible = clause.recursive ? ctes : new Map(ctes);
    ctes.set(
      cte.ctename ?? '',
      entryOf(reader, cte, { outer: around.outer, ctes: visible, isRecursive: clause.recursive === true }),
    );
  }
  return ctes;
}

/** What nobody asks for is read as well: its names may be wrong. */
function readAllCtes(select: SelectStmt, ctes: Ctes): void {
  for (const node of select.withClause!.ctes ?? [])
    if ('CommonTableExpr' in node) ctes.get(node.CommonTableExpr.ctename ?? '')?.block();
}

interface CteAround {
  readonly outer: Scope | undefined;
  readonly ctes: Ctes;
  readonly isRecursive: boolean;
}

function entryOf(reader: Reader, cte: CommonTableExpr, around: CteAround): CteEntry {
  let read: Block | undefined;
  let soFar: { block: Block; extra: readonly Field[] } | undefined;
  return {
    inside: () => soFar,
    block() {
      if (read) return read;
      const query = cte.ctequery && 'SelectStmt' in cte.ctequery ? cte.ctequery.SelectStmt : undefined;
      if (!query) return (read = UNKNOWN_BLOCK);
      soFar = { block: UNKNOWN_BLOCK, extra: [] };
      const block =
        around.isRecursive && query.larg
          ? fixedPoint(reader, { cte, query, around }, (known) => (soFar = known))
          : readQuery(reader, query, around);
      soFar = undefined;
      return (read = named(reader, cte, block));
    },
  };
}

/** The block under the names of its list, with the columns that SEARCH and CYCLE add. */
function named(reader: Reader, cte: CommonTableExpr, block: Block): Block {
  const given = strings(cte.aliascolnames);
  if (block.fields && given.length > block.fields.length)
    reader.problems.push({
      kind: 'names',
      location: cte.location ?? 0,
      table: cte.ctename ?? '',
      given: given.length,
      columns: block.fields.length,
    });
  const fields = renamed(given, block.fields);
  const extra = fields && marks(reader, cte, fields);
  return { fields: fields && extra && (extra.length ? [...fields, ...extra] : fields), rows: block.rows };
}

/** SEARCH and CYCLE follow columns of the recursion itself. */
function missingMarks(
  reader: Reader,
  clause: (CTESearchClause & CTECycleClause) | undefined,
  fields: readonly Field[],
): void {
  const names = fields.map((f) => f.name);
  const missing = strings(clause?.search_col_list ?? clause?.cycle_col_list).find((n) => !names.includes(n));
  if (clause && missing !== undefined)
    reader.problems.push({ kind: 'mark', location: clause.location ?? 0, name: missing, names });
}

/** The columns of SEARCH and CYCLE. */
function marks(reader: Reader, cte: CommonTableExpr, fields: readonly Field[]): readonly Field[] {
  const search: CTESearchClause | undefined = cte.search_clause;
  const cycle: CTECycleClause | undefined = cte.cycle_clause;
  const of = (names: readonly string[]) => mergeOf(names.flatMap((n) => fieldOf(fields, n) ?? []));
  for (const clause of [search, cycle]) missingMarks(reader, clause, fields);
  const found: Field[] = [];
  if (search) {
    const type = typeOfKey(search.search_breadth_first ? 'record' : '_record');
    found.push({
      ...of(strings(search.search_col_list)),
      kind: 'calculated',
      name: search.search_seq_column ?? '',
      type,
    });
  }
  if (cycle) {
    const compared = of(strings(cycle.cycle_col_list));
    const influence = union(compared.influence, compared.value);
    found.push(
      { ...CONSTANT, influence, name: cycle.cycle_mark_column ?? '', type: markType(reader, cycle) },
      { ...compared, kind: 'calculated', name: cycle.cycle_path_column ?? '', type: typeOfKey('_record') },
    );
  }
  return found;
}

function markType(reader: Reader, { cycle_mark_value, cycle_mark_default }: CTECycleClause) {
  const place = { scope: EMPTY, ctes: new Map(), windows: [], rows: new Gathered() };
  const values = [cycle_mark_value, cycle_mark_default].flatMap((n) =>
    n ? [reader.expression(reader, n, place)] : [],
  );
  return commonOf(reader.catalog, values).type;
}

/** Each is read several times in each reading of the one that it stands in. */
const MOST_RECURSIONS = 4;

interface Recursion {
  readonly cte: CommonTableExpr;
  readonly query: SelectStmt;
  readonly around: CteAround;
}

/**
 * The least fixed point of a recursion: types are those of the part that does not recur; what gives and influences a
 * column grows until a reading adds nothing.
 */
function fixedPoint(
  reader: Reader,
  { cte, query, around }: Recursion,
  know: (soFar: { block: Block; extra: readonly Field[] }) => void,
): Block {
  const recursions = (reader.recursions ?? 0) + 1;
  if (recursions > MOST_RECURSIONS) return UNKNOWN_BLOCK;
  const loud: Reader = { ...reader, recursions };
  const quiet: Reader = { ...loud, problems: [] };
  const given = strings(cte.aliascolnames);
  const knowing = (block: Block) => {
    // What a recursion makes of itself has no end.
    const fields = renamed(given, reader.trace ? block.fields?.map((f) => ({ ...f, step: undefined })) : block.fields);
    const extra = (fields ? marks(quiet, cte, fields) : []).map((f) => ({ ...f, hidden: true }));
    know({ block: { fields, rows: block.rows }, extra });
  };
  const first = readQuery(quiet, query.larg!, { ...around, ctes: armCtes(quiet, query, around) });
  let known = first;
  for (;;) {
    knowing(known);
    const next = withTypesOf(readQuery(quiet, query, around), first);
    const isSame = sizeOf(next) === sizeOf(known);
    known = next;
    if (isSame) break;
  }
  knowing(known);
  return withTypesOf(readQuery(loud, query, around), first);
}

/** The names that a WITH of the recursion itself brings. */
const armCtes = (reader: Reader, query: SelectStmt, around: CteAround): Ctes =>
  query.withClause ? withCtes(reader, query, around) : around.ctes;

const withTypesOf = (block: Block, first: Block): Block => ({
  rows: block.rows,
  fields: block.fields?.map((f, i) => ({ ...f, type: first.fields?.[i]?.type })),
});

const sizeOf = ({ fields, rows }: Block): number =>
  (fields ?? []).reduce((n, f) => n + f.value.length + f.influence.length, rows.length);
