import { compileFunction, type Names } from '../compile/compile.js';
import { emptyTable } from '../compile/target.js';
import { exampleDefinition, exampleInputs } from '../graph/example-inputs.js';
import { dimensionsOf } from '../graph/inputs.js';
import { functionsOf } from '../graph/functions.js';
import { lookedUpTables } from '../graph/looked-up.js';
import { isLookUp, lookedUpTable, namesIn, optionOf } from '../language/contract.js';
import { isView, keepsRows } from '../language/policies.js';
import { columnWith } from '../language/roles.js';
import { type LoadPlan, targetPlace } from '../load/plan/context.js';
import { planLoad } from '../load/plan/plan.js';
import { SESSION_SETTINGS } from '../load/plan/statements.js';
import type { Environment, Place } from '../model/place.js';
import type { Definition, Example, ExampleFile, ExamplePart, Project } from '../model/project.js';
import { ident, literal, qualified } from '../sql/quote.js';
import type { SameValue } from './compare.js';
import { copies, keptRows, runs, type ExampleStep } from './fill.js';
import { meansMember, memberOfKey } from './member-text.js';

/** The time of the first load where `params.csv` does not say it; each later load is a day later. */
const BEGINNING = Date.UTC(2000, 0, 1);
const DAY = 86_400_000;

/** One load of an example: what its inputs hold, then the load itself. */
export interface ExampleLoad {
  readonly inputs: readonly ExampleStep[];
  readonly plan: LoadPlan;
}

/** A worked example as it runs: everything is made in schemas of its own in one transaction, and taken back. */
export interface ExamplePlan {
  readonly table: Definition;
  /** Where the table is once a load has ended. */
  readonly target: Place;
  /** Makes inputs, functions, dimensions, the table before the first load, and the rows to expect. */
  readonly begin: readonly ExampleStep[];
  readonly loads: readonly ExampleLoad[];
  /** Columns of `result.csv`. */
  readonly columns: readonly string[];
  /** Return rows of `columns` as texts. */
  readonly expected: string;
  readonly actual: string;
  /** Places of the columns that tell rows apart. */
  readonly key: readonly number[];
  readonly same: SameValue;
}

/** Rows of a result that are read; `result.csv` has fewer. */
const MOST_ROWS = 2_000;
const EXPECTED: Place = { schema: 'pg_temp', name: 'expected_rows' };

const fileOf = (example: Example, kind: ExamplePart['kind']): ExampleFile | undefined =>
  example.files.find((f) => f.part.kind === kind);

/**
 * A worked example as statements.
 * @param example without errors in its files or its definition
 * @param environment schemas of its own, in which nothing is
 * @returns undefined where its definition has no query or it has no result
 */
export function planExample(project: Project, example: Example, environment: Environment): ExamplePlan | undefined {
  const table = ofEach(exampleDefinition(example.table, project.tables), example);
  const result = fileOf(example, 'result');
  if (!table?.query || !result) return undefined;
  return new Planner(project, example, table, environment).plan(result);
}

/** Of a fan-out, the table for the row of `each.csv`. */
function ofEach(table: Definition | undefined, example: Example): Definition | undefined {
  const row = fileOf(example, 'each');
  if (!table?.each || !row) return table;
  const values = new Map(row.header.map((name, at) => [name, row.rows[0]?.[at] ?? '']));
  return { ...table, each: { ...table.each, values: new Map([...table.each.values, ...values]) } };
}

class Planner {
  constructor(
    private readonly project: Project,
    private readonly example: Example,
    private readonly table: Definition,
    private readonly environment: Environment,
  ) {}

  private readonly placeOf = (name: string): Place => targetPlace(this.environment, this.project.tables.get(name)!);

  plan(result: ExampleFile): ExamplePlan {
    const target = targetPlace(this.environment, this.table);
    const loads = Math.max(1, ...this.example.files.map((f) => (f.part.kind === 'input' ? f.part.load : 1)));
    const times = Array.from({ length: loads }, (_, i) => this.params(i, loads));
    const before = fileOf(this.example, 'target');
    const { columns, sql } = this.resultColumns(result, target);
    return {
      table: this.table,
      target,
      begin: [
        ...SESSION_SETTINGS.map(runs),
        runs(`select set_config('load.time', ${literal(times[0]!.now)}, true), set_config('load.run', '0', true)`),
        ...this.emptyInputs(),
        ...this.dimensions(),
        ...this.functions(times[0]!.now),
        ...(before ? this.tableBefore(before, target) : []),
        runs(
          `create temp table expected_rows (${columns.map((c) => `${ident(c.name)} ${c.type}`).join(', ')}) on commit drop`,
        ),
        copies(EXPECTED, result),
      ],
      loads: times.map(({ now, parameters }, i) => ({
        inputs: this.inputsOf(i + 1),
        plan: this.loadPlan({ now, parameters, isFirst: i === 0 && !before, lastTime: times[i - 1]?.now }),
      })),
      columns: result.header,
      expected: `select ${result.header.map((name) => text(`e.${ident(name)}`, columns.find((c) => c.name === name)!.type)).join(', ')} from ${qualified(EXPECTED)} as e`,
      actual: sql,
      ...this.comparing(result),
    };
  }

  /** The time and the parameters of one load. @param i from 0 */
  private params(i: number, loads: number): { now: string; parameters: Map<string, string> } {
    const file = fileOf(this.example, 'params');
    const row = file?.rows[file.rows.length === loads ? i : 0];
    const values = new Map(
      (file?.header ?? []).flatMap((name, at) => {
        const value = row?.[at] ?? null;
        return value === null ? [] : [[name, value] as const];
      }),
    );
    const now = values.get('now') ?? new Date(BEGINNING + i * DAY).toISOString();
    values.delete('now');
    return { now, parameters: values };
  }

  private loadPlan(of: {
    now: string;
    parameters: Map<string, string>;
    isFirst: boolean;
    lastTime: string | undefined;
  }) {
    const plan = planLoad(
      {
        project: this.project,
        environment: this.environment,
        placeOf: this.placeOf,
        parameters: of.parameters,
        base: of.isFirst ? { kind: 'none' } : { kind: 'in place' },
        time: of.now,
        now: of.now,
        ...(of.lastTime === undefined ? {} : { lastTime: of.lastTime }),
        run: '0',
      },
      this.table,
    );
    // What the contract promises is held against all rows by its checks, which need more than the example gives.
    const { countSql: _, rewritten, ...rest } = plan;
    return {
      ...rest,
      checks: [],
      finish: [],
      ...(rewritten ? { rewritten: { staged: rewritten.staged, finish: [] } } : {}),
    };
  }

  /** Dimensions in which keys are looked up: they are filled once, with their unknown member. */
  private dimensionNames(): readonly string[] {
    return [...new Set(dimensionsOf(this.table, this.project.tables))];
  }

  private emptyInputs(): ExampleStep[] {
    const dimensions = this.dimensionNames();
    return exampleInputs(this.table, this.project)
      .inputs.filter((name) => !dimensions.includes(name))
      .map((name) => {
        const columns = this.columnsOf(name).map((c) => `${ident(c.name)} ${c.type}`);
        return runs(`create table ${qualified(this.placeOf(name))} (${columns.join(', ')})`);
      });
  }

  /** Columns with their types; a type that is not known is taken for a text. */
  private columnsOf(name: string): readonly { readonly name: string; readonly type: string }[] {
    const declared = this.project.tables.get(name)?.contract?.columns;
    const known = this.project.columns.get(name) ?? [];
    return known.map((c) => ({
      name: c.name,
      type: declared?.find((d) => d.name === c.name)?.type ?? c.type ?? 'text',
    }));
  }

  private dimensions(): ExampleStep[] {
    return this.dimensionNames().flatMap((name) => {
      const table = this.project.tables.get(name);
      if (table?.kind !== 'definition') return [];
      const place = this.placeOf(name);
      const file = this.example.files.find((f) => f.part.kind === 'member' && f.part.table === name);
      const input = this.example.files.find((f) => f.part.kind === 'input' && f.part.table === name);
      const rows = file ?? input;
      return [
        runs(emptyTable(table, place)),
        ...(rows ? keptRows(this.project, table, rows, { place, placeOf: this.placeOf }) : []),
      ];
    });
  }

  private functions(now: string): ExampleStep[] {
    const names: Names = { placeOf: this.placeOf, functionsSchema: this.environment.schemaOf('functions'), now };
    return functionsOf(this.project, [this.table.fullName]).map((f) => runs(compileFunction(this.project, f, names)));
  }

  private tableBefore(file: ExampleFile, place: Place): ExampleStep[] {
    return [
      runs(emptyTable(this.table, place)),
      ...keptRows(this.project, this.table, file, { place, placeOf: this.placeOf }),
    ];
  }

  /** What the inputs of a load hold; an input without a file for it holds what it held. */
  private inputsOf(load: number): ExampleStep[] {
    const dimensions = this.dimensionNames();
    return this.example.files.flatMap((file) =>
      file.part.kind === 'input' && file.part.load === load && !dimensions.includes(file.part.table)
        ? [runs(`delete from ${qualified(this.placeOf(file.part.table))}`), copies(this.placeOf(file.part.table), file)]
        : [],
    );
  }

  private dimensionOf(column: string): Definition | undefined {
    const declared = this.table.contract?.columns.find((c) => c.name === column);
    const name = declared && isLookUp(declared) ? lookedUpTable(this.table, column) : undefined;
    const found = name === undefined ? undefined : this.project.tables.get(name);
    return found?.kind === 'definition' ? found : undefined;
  }

  private resultColumns(result: ExampleFile, place: Place) {
    const types = new Map(this.columnsOf(this.table.fullName).map((c) => [c.name, c.type]));
    const columns = result.header.map((name) => ({
      name,
      type: this.dimensionOf(name) ? 'text' : comparableType(types.get(name) ?? 'text'),
    }));
    const items = columns.map(({ name, type }) => {
      const value = `t.${ident(name)}`;
      const dimension = this.dimensionOf(name);
      if (dimension) return memberOfKey(this.project, dimension, this.placeOf(dimension.fullName), value);
      return text(`cast(${value} as ${type})`, type);
    });
    const surrogate = columnWith({ columns: this.table.contract?.columns ?? [] }, 'surrogate key');
    // The unknown member comes with every load, and nobody has to expect it.
    const isKnown =
      surrogate !== undefined && lookedUpTables(this.project).has(this.table.fullName) && !isView(this.table)
        ? ` where t.${ident(surrogate)} <> 0`
        : '';
    const all = items.map((_, i) => i + 1).join(', ');
    return {
      columns,
      sql: `select ${items.join(', ')} from ${qualified(place)} as t${isKnown} order by ${all} limit ${MOST_ROWS}`,
    };
  }

  private comparing(result: ExampleFile): Pick<ExamplePlan, 'key' | 'same'> {
    const keys = [
      ...(this.table.contract?.constraints ?? []).filter((c) => c.kind === 'primary key' || c.kind === 'unique'),
    ].map((c) => c.columns);
    const business = namesIn(optionOf(this.table, 'business_key'));
    const validFrom = columnWith({ columns: this.table.contract?.columns ?? [] }, 'valid from');
    if (business.length && keepsRows(this.table))
      keys.unshift([...business, ...(validFrom === undefined ? [] : [validFrom])]);
    const key = keys.find((names) => names.every((name) => result.header.includes(name))) ?? [];
    const meant = new Set(result.header.flatMap((name, at) => (this.dimensionOf(name) ? [at] : [])));
    return {
      key: key.map((name) => result.header.indexOf(name)),
      same: (column, expected, actual) => (meant.has(column) ? meansMember(expected, actual) : expected === actual),
    };
  }
}

/** The type in which values are compared: json has no form of its own. */
const comparableType = (type: string): string => (type === 'json' ? 'jsonb' : type);

/** A value as a text that is the same for equal values. */
const text = (value: string, type: string): string =>
  type === 'numeric' ? `cast(trim_scale(${value}) as text)` : `cast(${value} as text)`;

export type { LoadPlan };
