import { resolveExpression } from '../lineage/columns.js';
import { beforeProblem } from '../load/before.js';
import { CONDITIONS, isFilled, lookedUpTable, namesIn } from '../load/target.js';
import { didYouMean } from '../sql/nearest.js';
import type { Range } from '../sql/positions.js';
import type { Diagnostic, DiagnosticCode } from './diagnostic.js';
import type { Column, ColumnDeclaration, Definition, LoadPolicy, OptionValue, Table } from './model.js';
import { oneCondition } from './source-diagnostics.js';
import { comparisonProblem, keyProblem, lookBackProblem, watermarkProblem } from './type-fitness.js';

/** What a load is held against: the other tables, and the columns that the query returns. */
export interface PolicySurroundings {
  readonly tables: ReadonlyMap<string, Table>;
  readonly query: readonly Column[] | undefined;
  /** Source tables that are brought in past a watermark, as far as the query reads them through views. */
  readonly partial: readonly string[];
}

/** Options that only mean something to some policies. */
export const OPTION_POLICIES: Readonly<Record<string, readonly LoadPolicy[]>> = {
  watermark: ['append'],
  look_back: ['append'],
  set_columns: ['merge'],
  update_when: ['merge'],
  insert_when: ['merge'],
  delete_when: ['merge'],
  missing_rows: ['merge', 'history'],
  largest_loss: ['merge', 'history'],
  empty: ['merge', 'history'],
  effective_from: ['history'],
  order_within: ['history'],
  overwrite_scope: ['history'],
  keep_copies: ['dated'],
  shape: ['merge', 'history'],
};

/** Roles that only some policies fill. */
export const ROLE_POLICIES: Readonly<Record<string, readonly LoadPolicy[]>> = {
  'valid from': ['history'],
  'valid to': ['history'],
  'version number': ['history'],
  'durable key': ['history'],
  'current flag': ['history', 'dated'],
  'deleted flag': ['merge'],
  'as of': ['dated'],
};

const STATEFUL_POLICIES: readonly LoadPolicy[] = ['append', 'merge', 'history', 'dated'];

/** Whether a table's load has all that its policy needs, and nothing that it cannot use. */
export function policyDiagnostics(table: Definition, around: PolicySurroundings): Diagnostic[] {
  return new PolicyReader(table, around).read();
}

class PolicyReader {
  private readonly found: Diagnostic[] = [];
  private readonly columns: readonly ColumnDeclaration[];
  private readonly options: ReadonlyMap<string, OptionValue>;

  constructor(
    private readonly table: Definition,
    private readonly around: PolicySurroundings,
  ) {
    this.columns = table.contract?.columns ?? [];
    this.options = table.contract?.options ?? new Map();
  }

  read(): Diagnostic[] {
    this.needs();
    this.misplaced();
    this.names();
    this.types();
    this.conditions();
    this.before();
    for (const column of this.columns) if (column.options['looked_up_by'] !== undefined) this.lookUp(column);
    return this.found;
  }

  private report(message: string, hint: string, range: Range = this.options.get('load')?.range ?? this.table.nameRange, code: DiagnosticCode = 'policy'): void {
    this.found.push({ code, severity: 'error', path: this.table.path, range, message, hint });
  }

  private needs(): void {
    const { policy } = this.table;
    const role = (name: string) => this.columns.some((c) => c.options['role'] === name);
    const key = this.options.has('business_key');
    if (policy === 'append' && !this.options.has('watermark')) this.report('load = append needs a watermark', "write watermark = 'column'");
    if ((policy === 'merge' || policy === 'history') && !key)
      this.report(`load = ${policy} needs a business key`, "write business_key = 'column', or several with commas between");
    if (policy === 'append' && this.options.has('look_back') && !key)
      this.report(
        'look_back needs a business key, which tells rows that are there already',
        "write business_key = 'column'",
        this.options.get('look_back')!.range,
      );
    if (policy === 'history')
      for (const name of ['valid from', 'valid to'])
        if (!role(name)) this.report(`load = history needs a column with the role ${name}`, `write options (role '${name}') on it`);
    if (policy === 'dated' && !role('as of'))
      this.report('load = dated needs a column with the role as of', "write options (role 'as of') on the column of the date");
    const surrogate = this.columns.find((c) => c.options['role'] === 'surrogate key');
    if (surrogate && policy === 'view') this.report('a view cannot hold surrogate keys', 'write load = rebuild', surrogate.range);
    else if (surrogate && !key && policy !== 'merge' && policy !== 'history')
      this.report(`${surrogate.name} needs a business key to number`, "write business_key = 'column'", surrogate.range);
    const missing = this.options.get('missing_rows');
    if (missing?.value === 'flag' && !role('deleted flag'))
      this.report('missing_rows = flag needs a column with the role deleted flag', "write options (role 'deleted flag') on a boolean column", missing.range);
    const ofPolicy = policy === 'merge' ? ['keep', 'delete', 'flag'] : ['keep', 'close'];
    if (missing && (policy === 'merge' || policy === 'history') && !ofPolicy.includes(missing.value))
      this.report(`load = ${policy} does not support missing_rows = ${missing.value}`, `use ${ofPolicy.join(', ')}`, missing.range);
    const events = this.options.get('effective_from');
    if (missing && events && policy === 'history')
      this.report(
        'missing_rows means nothing to a history from events: a key without events says nothing',
        'leave missing_rows or effective_from out',
        missing.range,
      );
    const loss = this.options.get('largest_loss');
    if (loss && (policy === 'merge' || policy === 'history') && (missing === undefined || missing.value === 'keep') && !this.options.has('delete_when'))
      this.report(
        'largest_loss has nothing to guard: this load removes no row',
        policy === 'merge' ? 'write missing_rows = delete or flag, or delete_when' : 'write missing_rows = close',
        loss.range,
      );
    if (missing && missing.value !== 'keep' && this.around.partial.length)
      this.report(
        `missing_rows = ${missing.value} needs the whole truth, but ${this.around.partial.join(', ')} is loaded incrementally`,
        'use missing_rows = keep, or bring the source in in full',
        missing.range,
      );
  }

  private misplaced(): void {
    const { policy } = this.table;
    for (const [name, option] of this.options) {
      const policies = Object.hasOwn(OPTION_POLICIES, name) ? OPTION_POLICIES[name]! : undefined;
      if (policies && !policies.includes(policy))
        this.report(`option ${name} means nothing to load = ${policy}`, `it is for ${policies.join(' and ')}`, option.range);
    }
    const shape = this.options.get('shape');
    if (shape?.value === 'rewrite' && this.options.get('drift')?.value === 'add')
      this.report('a table with drift = add is never rewritten', 'columns that only the table still has would be lost; leave shape out', shape.range);
    const stamp = this.options.has('effective_from') && this.columns.find((c) => ['loaded at', 'run id'].includes(c.options['role'] ?? ''));
    if (shape?.value === 'rewrite' && stamp)
      this.report(
        `a history from events that keeps ${stamp.options['role']!} is never rewritten`,
        `versions that stay the same keep what ${stamp.name} says of them; leave shape out`,
        shape.range,
      );
    for (const column of this.columns) {
      const { role } = column.options;
      const policies = role !== undefined && Object.hasOwn(ROLE_POLICIES, role) ? ROLE_POLICIES[role]! : undefined;
      if (policies && !policies.includes(policy))
        this.report(`role ${role} means nothing to load = ${policy}`, `it is for ${policies.join(' and ')}`, column.range);
      const { on_change: onChange, previous_of: of } = column.options;
      if (onChange !== undefined && policy !== 'history') this.report(`on_change means nothing to load = ${policy}`, 'it is for history', column.range);
      if (
        onChange === 'previous' &&
        !this.columns.some((c) => c.name === of && ['version', 'overwrite'].includes(c.options['on_change'] ?? 'version') && !isFilled(c))
      )
        this.report(
          `${column.name} has to say whose previous value it holds`,
          "write previous_of 'column', a column that is versioned or overwritten",
          column.range,
        );
    }
  }

  /** Types that can do what the load asks of them. */
  private types(): void {
    const { policy } = this.table;
    const named = (option: string) => namesIn(this.options.get(option)?.value);
    const typeOf = (name: string) => this.columns.find((c) => c.name === name)?.type;
    const refuse = (column: ColumnDeclaration, problem: string | undefined, hint: string) => {
      if (problem !== undefined) this.report(`${column.name}: ${problem}`, hint, column.range);
    };
    const key = named('business_key');
    const [set, events] = [named('set_columns'), this.options.has('effective_from')];
    for (const column of this.columns) {
      if (isFilled(column)) continue;
      if (key.includes(column.name)) refuse(column, keyProblem(column.type), 'make the key of columns whose values can be told apart');
      else if (
        policy === 'dated' ||
        (policy === 'merge' && (set.length === 0 || set.includes(column.name))) ||
        (policy === 'history' && (events || column.options['on_change'] !== 'keep'))
      )
        refuse(column, comparisonProblem(column.type), 'its load compares rows: cast it to text in the query, and declare it as text');
    }
    const watermark = this.options.get('watermark');
    const type = watermark && policy === 'append' ? typeOf(watermark.value) : undefined;
    if (type === undefined) return;
    const unfit = watermarkProblem(type);
    if (unfit !== undefined) return this.report(`option watermark: ${unfit}`, 'choose a time or a number that grows', watermark!.range);
    const back = this.options.get('look_back');
    const wrong = back && lookBackProblem(type, back.value);
    if (wrong !== undefined) this.report(`option look_back: ${wrong}`, `the watermark is of type ${type}`, back!.range);
  }

  /** Columns that options name, held against the contract or the query. */
  private names(): void {
    const { query } = this.around;
    for (const option of ['business_key', 'watermark', 'set_columns'])
      this.known(
        option,
        () => this.given(),
        (name) => `${this.table.fullName} has no column ${name} of the query`,
      );
    if (query)
      for (const option of ['effective_from', 'order_within'])
        this.known(
          option,
          () => query,
          (name) => `the query returns no column ${name}`,
        );
  }

  private known(option: string, columns: () => readonly { readonly name: string }[], message: (name: string) => string): void {
    const value = this.options.get(option);
    if (!value) return;
    const names = columns().map((c) => c.name);
    for (const name of namesIn(value.value))
      if (!names.includes(name)) this.report(`option ${option}: ${message(name)}`, didYouMean(name, names) ?? `there are ${names.join(', ')}`, value.range);
  }

  /** Columns whose values come from the query, as they are or looked up. */
  private given(): readonly ColumnDeclaration[] {
    return this.columns.filter((c) => !isFilled(c) || c.options['looked_up_by'] !== undefined);
  }

  private conditions(): void {
    for (const name of CONDITIONS) {
      const option = this.options.get(name);
      if (!option) continue;
      const query = this.given().map((c) => ({ name: c.name, origins: [] }));
      const target = this.columns.map((c) => ({ name: c.name, origins: [] }));
      const condition = oneCondition(option.value);
      if ('problem' in condition) {
        this.report(`option ${name}: ${condition.problem}`, 'write one condition over q, the query’s row, and t, the table’s', option.range);
        continue;
      }
      if (condition.effect) this.report(`option ${name}: ${condition.effect}`, 'a condition only reads', option.range);
      const problems = resolveExpression(condition.node, [
        { name: 'q', columns: query },
        { name: 't', columns: target },
      ]);
      for (const wrong of new Set(problems.map((p) => ('parts' in p ? p.parts.join('.') : '')))) {
        const near = didYouMean(
          wrong.split('.').at(-1)!,
          target.map((c) => c.name),
        );
        this.report(`option ${name}: there is no ${wrong}`, near ?? 'write q.column or t.column', option.range);
      }
    }
  }

  private before(): void {
    const option = this.options.get('before');
    if (!option) return;
    const reads = (this.table.query?.tables ?? []).map((t) => `${t.layer ?? ''}.${t.name}`);
    const problem = beforeProblem(option.value, this.table.each?.declared ?? this.table.fullName, reads, STATEFUL_POLICIES.includes(this.table.policy));
    if (problem !== undefined) this.report(`option before: ${problem}`, 'write statements with semicolons between', option.range);
  }

  private lookUp(column: ColumnDeclaration): void {
    const at = (message: string, hint: string) => this.report(`${column.name}: ${message}`, hint, column.range);
    const other = lookedUpTable(this.table, column.name);
    const dimension = other === undefined ? undefined : this.around.tables.get(other);
    if (this.table.policy === 'view') at('a view cannot look keys up', 'write load = rebuild or load = merge');
    if (other === undefined) return at('looked_up_by needs to know in which table', 'write references layer.table (key) on the column');
    if (dimension?.kind !== 'definition') return at(`${other} is not a definition of the project`, 'look keys up in a table that Ouvrage loads');
    const key = namesIn(dimension.contract?.options.get('business_key')?.value);
    if (!dimension.contract?.columns.some((c) => c.options['role'] === 'surrogate key'))
      return at(`${other} has no surrogate key`, "give one of its columns options (role 'surrogate key')");
    if (column.options['missing'] === 'infer' && dimension.policy === 'dated')
      at(`${other} holds one copy per date, which cannot contain placeholders`, "use missing 'unknown' or 'stop'");
    const by = namesIn(column.options['looked_up_by']);
    if (by.length !== key.length)
      at(
        `looked_up_by names ${by.length} ${by.length === 1 ? 'column' : 'columns'}, the business key of ${other} has ${key.length}`,
        `name them in the order of ${key.join(', ') || 'its business key'}`,
      );
    const returned = this.around.query?.map((c) => c.name);
    for (const name of [...by, ...namesIn(column.options['at'])])
      if (returned && !returned.includes(name))
        at(`the query returns no column ${name}`, didYouMean(name, returned) ?? 'add it to the query; the contract need not have it');
  }
}
