import { exampleDefinition, exampleInputs } from '../../../graph/example-inputs.js';
import { keepsRows } from '../../../language/policies.js';
import { specOf } from '../../../language/spec.js';
import { isLookUp } from '../../../language/contract.js';
import { valueProblem } from '../../../language/value-problem.js';
import { errorAt, type Diagnostic, type Finding } from '../../../model/diagnostic.js';
import type {
  Column,
  Definition,
  Example,
  ExampleFile,
  IndexedFile,
  Parameter,
  ProjectFunction,
  Table,
} from '../../../model/project.js';
import type { Range } from '../../../sql/positions.js';
import {
  badExampleValue,
  cannotBeExpected,
  eachRow,
  eventsBegin,
  loadLeftOut,
  missingFile,
  notAFanOut,
  notAnInput,
  oneLoad,
  paramsRows,
  tooManyRows,
  unknownDefinition,
  unknownExampleColumn,
  unknownParam,
} from './messages.js';

/** Rows of one file of an example. */
const MOST_ROWS = 1_000;
/** Of one file; more say no more. */
const MOST_TOLD = 50;

interface Around {
  readonly files: ReadonlyMap<string, IndexedFile>;
  readonly tables: ReadonlyMap<string, Table>;
  readonly functions: ReadonlyMap<string, ProjectFunction>;
  readonly parameters: ReadonlyMap<string, Parameter>;
  readonly reads: ReadonlyMap<string, readonly string[]>;
  readonly columns: ReadonlyMap<string, readonly Column[] | undefined>;
}

/** What was found of an example, and what it depends on: where all of that is the same, so is what is found. */
interface Memo {
  readonly of: readonly unknown[];
  readonly found: readonly Diagnostic[];
}
const memos = new WeakMap<ExampleFile, Memo>();

/** What is wrong with worked examples: files of tables that are not read, missing ones, columns and values. */
export function exampleDiagnostics(
  examples: ReadonlyMap<string, readonly Example[]>,
  around: Around,
): readonly Diagnostic[] {
  const found: Diagnostic[] = [];
  for (const [name, ofTable] of examples) {
    const table = exampleDefinition(name, around.tables);
    const known = table && knownOf(table, around);
    for (const example of ofTable) {
      const first = example.files[0]!;
      if (!table || !known) {
        found.push(errorAt({ path: first.path, range: NOWHERE }, unknownDefinition(name, definitions(around))));
        continue;
      }
      let memo = memos.get(first);
      if (!memo || !isSame(memo.of, known, example.files, (file) => columnsFor(file, table, around))) {
        const of = [...known, ...example.files.flatMap((file) => [file, columnsFor(file, table, around)])];
        memos.set(first, (memo = { of, found: new ExampleRule(example, table, around).found }));
      }
      for (const diagnostic of memo.found) found.push(diagnostic);
    }
  }
  return found;
}

/** Whether an example depends on what it did; asked of each example at each keystroke, so that nothing is made for it. */
function isSame(
  of: readonly unknown[],
  known: readonly unknown[],
  files: readonly ExampleFile[],
  columns: (file: ExampleFile) => unknown,
): boolean {
  if (of.length !== known.length + 2 * files.length) return false;
  for (let i = 0; i < known.length; i++) if (of[i] !== known[i]) return false;
  for (let i = 0, at = known.length; i < files.length; i++, at += 2)
    if (of[at] !== files[i] || of[at + 1] !== columns(files[i]!)) return false;
  return true;
}

/** What the examples of a definition depend on beside their files. */
function knownOf(table: Definition, around: Around): readonly unknown[] {
  const { inputs, members } = exampleInputs(table, around);
  return [
    table,
    [...inputs, '', ...members].join(),
    [...around.parameters.keys()].join(),
    ...functionsUsed(table, around),
  ];
}

/** The columns that a file's header has to be among; undefined where they are not known, or it has others. */
function columnsFor({ part }: ExampleFile, table: Definition, around: Around): readonly Column[] | undefined {
  switch (part.kind) {
    case 'params':
    case 'each':
      return undefined;
    case 'input':
    case 'member':
      return around.columns.get(part.table);
    case 'target':
    case 'result':
      return around.columns.get(table.fullName);
  }
}

/** The functions that a definition's query calls, also through others. */
function functionsUsed(table: Definition, { functions }: Around): readonly ProjectFunction[] {
  const found = new Set<ProjectFunction>();
  const open = (table.query?.functions ?? []).map((f) => f.name);
  for (let name = open.pop(); name !== undefined; name = open.pop()) {
    const f = functions.get(name);
    if (!f || found.has(f)) continue;
    found.add(f);
    open.push(...f.functions.map((g) => g.name));
  }
  return [...found];
}

const NOWHERE: Range = { start: 0, end: 0 };
const definitions = ({ tables }: Around) =>
  [...tables.values()].flatMap((t) => (t.kind === 'definition' ? [t.each?.declared ?? t.fullName] : []));

class ExampleRule {
  readonly found: Diagnostic[] = [];
  /** Where something is said that is missing: nothing else of the example has a better place. */
  private readonly place: ExampleFile;

  constructor(
    private readonly example: Example,
    private readonly table: Definition,
    private readonly around: Around,
  ) {
    this.place = this.file('result') ?? example.files[0]!;
    this.required();
    this.loads();
    for (const file of example.files) this.columnsOf(file);
    this.moments();
  }

  private file(kind: ExampleFile['part']['kind']): ExampleFile | undefined {
    return this.example.files.find((f) => f.part.kind === kind);
  }

  private say(file: ExampleFile, finding: Finding, range: Range = file.headerRange): void {
    this.found.push(errorAt({ path: file.path, range }, finding));
  }

  /** Tables whose rows have to be given, and no others. */
  private required(): void {
    const { inputs, members } = exampleInputs(this.table, this.around);
    const given = new Set<string>();
    for (const file of this.example.files) {
      const { part } = file;
      if (part.kind !== 'input' && part.kind !== 'member') continue;
      const expected = part.kind === 'input' ? inputs : members;
      if (expected.includes(part.table)) given.add(part.table);
      else this.say(file, notAnInput({ table: this.example.table, file: part.table, kind: part.kind }, expected));
    }
    for (const input of inputs)
      if (!given.has(input)) this.say(this.place, missingFile(`input.${input}.csv`, `${this.example.table} reads it`));
    for (const member of members)
      if (!given.has(member)) this.say(this.place, missingFile(`member.${member}.csv`, 'keys are looked up in it'));
    if (!this.file('result')) this.say(this.place, missingFile('result.csv', 'it holds the rows to expect'));
    const { each } = this.table;
    const row = this.file('each');
    if (row && !each) this.say(row, notAFanOut(this.example.table));
    if (each && row?.rows.length !== 1) this.say(row ?? this.place, eachRow([...each.values.keys()]));
  }

  private loads(): void {
    const numbers = new Set(this.example.files.flatMap((f) => (f.part.kind === 'input' ? [f.part.load] : [])));
    const last = Math.max(1, ...numbers);
    for (let load = 1; load <= last; load++)
      if (!numbers.has(load) && numbers.size > 0) this.say(this.place, loadLeftOut(load));
    const target = this.file('target');
    if (!keepsRows(this.table)) {
      const [extra] = this.example.files.filter((f) => f.part.kind === 'input' && f.part.load > 1);
      if (extra ?? target) this.say((extra ?? target)!, oneLoad(this.example.table));
    } else if (target && specOf(this.table).kind === 'events') this.say(target, eventsBegin);
    const params = this.file('params');
    if (params && params.rows.length !== 1 && params.rows.length !== last) this.say(params, paramsRows(last));
  }

  /** Columns that there are, and values of their types. */
  private columnsOf(file: ExampleFile): void {
    if (file.rows.length > MOST_ROWS) return this.say(file, tooManyRows(file.rows.length, MOST_ROWS));
    const { part } = file;
    if (part.kind === 'params') {
      const names = ['now', ...this.around.parameters.keys()];
      for (const name of file.header) if (!names.includes(name)) this.say(file, unknownParam(name, names));
      return this.values(file, new Map([['now', 'timestamptz']]));
    }
    if (part.kind === 'each') {
      const names = [...(this.table.each?.values.keys() ?? [])];
      for (const name of file.header)
        if (!names.includes(name) && this.table.each) this.say(file, unknownExampleColumn(name, 'the list', names));
      return;
    }
    const of = part.kind === 'input' || part.kind === 'member' ? part.table : this.table.fullName;
    const columns = columnsFor(file, this.table, this.around);
    if (!columns) return;
    const names = columns.map((c) => c.name);
    for (const name of file.header) if (!names.includes(name)) this.say(file, unknownExampleColumn(name, of, names));
    // A key that is looked up is given by the member that it means.
    const meant = new Set(
      part.kind === 'result' || part.kind === 'target'
        ? (this.table.contract?.columns ?? []).filter(isLookUp).map((c) => c.name)
        : [],
    );
    this.values(
      file,
      new Map(columns.flatMap((c) => (c.type === undefined || meant.has(c.name) ? [] : [[c.name, c.type] as const]))),
    );
  }

  private values(file: ExampleFile, types: ReadonlyMap<string, string>): void {
    let told = 0;
    for (const [row, fields] of file.rows.entries())
      for (const [at, value] of fields.entries()) {
        const column = file.header[at]!;
        const type = types.get(column);
        const problem = value === null || type === undefined ? undefined : valueProblem(type, value);
        if (problem === undefined) continue;
        this.say(file, badExampleValue({ column, value: value! }, problem), file.ranges[row]);
        if (++told === MOST_TOLD) return;
      }
  }

  /** What differs with each call can be expected by nobody. */
  private moments(): void {
    const all = [
      ...(this.table.query?.moments ?? []),
      ...functionsUsed(this.table, this.around).flatMap((f) => f.moments),
    ];
    const volatile = all.find((m) => m.kind === 'volatile');
    if (volatile) this.say(this.place, cannotBeExpected(this.example.table, `${volatile.name}()`));
  }
}
