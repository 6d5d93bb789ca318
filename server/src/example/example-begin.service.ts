import { createHmac } from 'node:crypto';
import { Inject, Injectable } from '@nestjs/common';
import type { BegunExample, ExampleOutcome } from '@ouvrage/api/example';
import { InputTrace, madeUp, type NamedRow, type Wanted } from '@ouvrage/core/example';
import { exampleDefinition } from '@ouvrage/core/graph';
import { csvText, examplePath, pathProblem } from '@ouvrage/core/index';
import { sensitiveOf } from '@ouvrage/core/lineage';
import type { Definition, Project } from '@ouvrage/core/model';
import { changeFiles } from '@ouvrage/core/resolve';
import { didYouMean, idents } from '@ouvrage/core/sql';
import { PreviewService } from '../look/preview.service.js';
import { PRODUCTION } from '../project/branches.js';
import { type Line, ProjectService } from '../project/project.service.js';
import { Config } from '../shared/config.js';
import { Problem } from '../shared/problem.js';
import { ReaderService } from '../warehouse/reader.service.js';
import { isOfStatement } from '../warehouse/sql-error.js';
import { cursorOf } from '../warehouse/shown-rows.js';
import { ExampleRunner, whyNot } from './example-runner.js';

/** Rows of one input that an example is begun with. */
const MOST_ROWS = 50;
/** Rows of an input of which nothing is known. */
const SOME_ROWS = 5;

/** What an example is begun from. */
export interface BeginAsked {
  readonly table: string;
  readonly name: string;
  readonly columns: readonly string[];
  readonly rows: readonly (readonly (string | null)[])[];
}

type Texts = readonly (readonly (string | null)[])[];

/** Begins worked examples from rows of a preview, with the input rows that made them. */
@Injectable()
export class ExampleBegin {
  constructor(
    @Inject(Config) private readonly config: Config,
    private readonly projects: ProjectService,
    private readonly previews: PreviewService,
    private readonly reader: ReaderService,
    private readonly runner: ExampleRunner,
  ) {}

  /**
   * The files of an example; nothing is saved. Values of sensitive columns are made up.
   * @throws Problem where the definition or the name cannot have an example
   */
  async begin(slug: string, asked: BeginAsked, signal: AbortSignal): Promise<BegunExample> {
    const line = await this.projects.line(slug);
    const { project } = line;
    const table = definitionOf(project, asked.table);
    const folder = { table: table.each?.declared ?? table.fullName, example: asked.name };
    const wrong = pathProblem(examplePath(folder, { kind: 'result' }));
    if (wrong !== undefined)
      throw new Problem(422, 'bad-name', `${asked.name} cannot be the name of an example`, wrong);
    if (project.examples.get(folder.table)?.some((e) => e.name === asked.name))
      throw new Problem(409, 'already-there', `${folder.table} has an example ${asked.name}`, 'Choose another name.');
    const { project: released } = await this.projects.line(PRODUCTION);
    const notes: string[] = [];
    const chosen = asked.rows.map((row): NamedRow => new Map(asked.columns.map((name, i) => [name, row[i] ?? null])));
    const trace = new InputTrace(project, table, chosen);
    const columns = trace.resultColumns();
    // Without columns there is no header: what has none is no example.
    if (columns.length === 0)
      throw new Problem(
        422,
        'no-columns',
        `The columns of ${folder.table} are not known`,
        'Fix the errors in its definition, then begin the example.',
      );
    const files: { path: string; text: string }[] = [];
    const add = (wanted: Wanted, rows: readonly NamedRow[]) => {
      const hidden = sensitiveOf(project, wanted.table, released);
      const replaced = wanted.columns.filter((c) => hidden.has(c));
      if (replaced.length)
        notes.push(`Values of ${wanted.table}.${replaced.join(', ')} are made up: they are sensitive.`);
      const secret = createHmac('sha256', this.config.key).update('examples').digest('hex');
      const typeOf = (column: string) =>
        project.columns.get(wanted.table)?.find((c) => c.name === column)?.type ?? 'text';
      const values = rows.map((row) =>
        wanted.columns.map((c) => {
          const value = row.get(c) ?? null;
          return hidden.has(c) ? madeUp(value, typeOf(c), secret) : value;
        }),
      );
      const part =
        wanted.kind === 'member'
          ? ({ kind: 'member', table: wanted.table } as const)
          : ({ kind: 'input', table: wanted.table, load: 1 } as const);
      files.push({ path: examplePath(folder, part), text: csvText(wanted.columns, values) });
    };
    for (let wanted = trace.next(); wanted; wanted = trace.next()) {
      const rows = await this.rowsOf(line, wanted, notes, signal);
      trace.found(wanted.table, rows);
      add(wanted, rows);
    }
    for (const member of trace.members()) add(member, await this.rowsOf(line, member, notes, signal));
    if (table.each)
      files.push({
        path: examplePath(folder, { kind: 'each' }),
        text: csvText([...table.each.values.keys()], [[...table.each.values.values()]]),
      });
    const result = await this.result(line, { folder, files, columns });
    if (result.error) notes.push(`The example does not run yet: ${result.error.message}.`);
    const made = result.rows.flatMap((r) => (r.actual ? [r.actual] : []));
    const visible = columns.filter((c) => !sensitiveOf(project, table.fullName, released).has(c));
    const lost = chosen.filter((row) => !made.some((values) => isIn(row, columns, values, visible)));
    if (lost.length && !result.error)
      notes.push(
        `${lost.length === 1 ? 'One of the chosen rows does' : `${lost.length} of the chosen rows do`} not come out of these inputs: add the rows that are missing.`,
      );
    files.push({ path: examplePath(folder, { kind: 'result' }), text: csvText(columns, made) });
    return { files, notes };
  }

  /** Rows of an input as texts; none, with a note, where they cannot be read. */
  private async rowsOf(line: Line, wanted: Wanted, notes: string[], signal: AbortSignal): Promise<NamedRow[]> {
    try {
      return await this.readRows(line, wanted, notes, signal);
    } catch (error) {
      // A dimension that is not built is its query, which has no keys and no validity.
      if (!isOfStatement(error) && !(error instanceof Problem && error.code === 'not-built')) throw error;
      notes.push(`${wanted.table} has no rows here that could be copied: run it first, or write them.`);
      return [];
    }
  }

  private async readRows(line: Line, wanted: Wanted, notes: string[], signal: AbortSignal): Promise<NamedRow[]> {
    const { from } = await this.previews.sourceIn(line, wanted.table);
    const most = wanted.where === undefined ? SOME_ROWS : MOST_ROWS;
    const items = wanted.columns.map((c) => `cast(i.${idents([c])} as text)`).join(', ');
    const where = wanted.where === undefined ? '' : ` where ${wanted.where}`;
    const sql = `select ${items} from ${from} as i${where} limit ${most + 1}`;
    const rows = await this.reader.read(signal, async (client) => {
      const cursor = cursorOf(client, { sql, values: [] });
      const found = await cursor.read(most + 1);
      await cursor.close();
      return found;
    });
    if (rows.length > most)
      notes.push(
        wanted.where === undefined
          ? `Nothing tells which rows of ${wanted.table} were used: the first ${most} are there.`
          : `More than ${most} rows of ${wanted.table} fit: the first ${most} are there.`,
      );
    return rows.slice(0, most).map((row) => new Map(wanted.columns.map((c, i) => [c, row[i] ?? null])));
  }

  /** What the definition makes of the inputs. */
  private async result(
    { project, workspace }: Line,
    of: {
      readonly folder: { readonly table: string; readonly example: string };
      readonly files: readonly { readonly path: string; readonly text: string }[];
      readonly columns: readonly string[];
    },
  ): Promise<Pick<ExampleOutcome, 'rows' | 'error'>> {
    const result = { path: examplePath(of.folder, { kind: 'result' }), text: csvText(of.columns, []) };
    const added = changeFiles(project, new Map([...of.files, result].map((f) => [f.path, f.text])));
    const example = added.examples.get(of.folder.table)!.find((e) => e.name === of.folder.example)!;
    const wrong = whyNot(added, example);
    if (wrong) return { rows: [], error: { message: wrong.message } };
    return (
      (await this.runner.run(added, example, workspace?.prefix ?? 'w~production')) ?? {
        rows: [],
        error: { message: 'its definition has no query' },
      }
    );
  }
}

function definitionOf(project: Project, name: string): Definition {
  const table = exampleDefinition(name, project.tables);
  if (table?.query) return table;
  const names = [...project.tables.values()].flatMap((t) => (t.kind === 'definition' ? [t.fullName] : []));
  throw new Problem(404, 'not-found', `There is no definition ${name} with a query`, didYouMean(name, names));
}

/** Whether a chosen row is among those that were made, by the columns that both have and everybody may see. */
function isIn(row: NamedRow, columns: readonly string[], values: Texts[number], visible: readonly string[]): boolean {
  return visible.every((name) => {
    const value = row.get(name);
    if (value === undefined) return true;
    const made = values[columns.indexOf(name)] ?? null;
    return made === value || (made !== null && value !== null && Number(made) === Number(value));
  });
}
