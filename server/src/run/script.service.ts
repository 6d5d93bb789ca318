import { Injectable } from '@nestjs/common';
import { compileFunction, untypedDrift } from '@ouvrage/core/compile';
import { functionsOf, select } from '@ouvrage/core/graph';
import { readCsv } from '@ouvrage/core/index';
import { loadProcedures, loadScript, planLoad, targetPlace, type ScriptTable } from '@ouvrage/core/load';
import type { Place, Project, ReferenceTable, Environment } from '@ouvrage/core/model';
import { ident, qualified } from '@ouvrage/core/sql';
import { ProjectService } from '../project/project.service.js';
import { notFound, Problem } from '../shared/problem.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { currentTime } from '../shared/time.js';

export interface ScriptRequest {
  /** Full names; none for all. */
  readonly tables: readonly string[];
  readonly upstream: boolean;
  readonly form: 'script' | 'procedures';
}

/** The SQL of loads, to be read before they run and to be exported. */
@Injectable()
export class ScriptService {
  constructor(
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
  ) {}

  /** The text that loads tables in an environment. Source tables are not in it: their rows come from elsewhere. */
  async text(slug: string, { tables, upstream, form }: ScriptRequest): Promise<string> {
    const line = await this.projects.line(slug);
    const { project } = line;
    // Whoever takes it away has no roles of the product.
    const environment: Environment = { ...line.environment, readers: [] };
    const unknown = tables.filter((t) => !project.tables.has(t));
    if (unknown.length) throw notFound(`The table ${unknown.join(', ')}`);
    const chosen = tables.length
      ? select(project.needs, { tables, upstream, downstream: false })
      : new Set(project.tables.keys());
    const order = project.order.filter((t) => chosen.has(t) && project.tables.get(t)!.kind !== 'source');
    if (order.length === 0)
      throw new Problem(
        409,
        'no-script',
        `${tables.join(', ')} is loaded from its source, not by SQL`,
        'Choose a table that Ouvrage builds.',
      );
    this.refuseErrors(project, order);
    const standings = await this.warehouse.standings(project, environment, this.projects.environmentOf(undefined));
    const placeOf = (name: string): Place =>
      chosen.has(name) && project.tables.get(name)!.kind !== 'source'
        ? targetPlace(environment, project.tables.get(name)!)
        : (standings.get(name)?.place ?? targetPlace(environment, project.tables.get(name)!));
    const plans = order.map((name): ScriptTable => {
      const table = project.tables.get(name)!;
      if (table.kind === 'source') throw new Error(`${name} is brought in`);
      const untyped = table.kind === 'definition' ? untypedDrift(project, table) : [];
      if (untyped.length)
        throw new Problem(
          409,
          'no-script',
          `${name} adds ${untyped.join(', ')}, whose types only the warehouse knows`,
          'Declare it in the contract, or cast it in the query.',
        );
      const plan = planLoad({ project, environment, placeOf, base: { kind: 'in place' } }, table);
      return { plan, ...(table.kind === 'reference' ? { rows: rowsOf(project, table) } : {}) };
    });
    const title = `${order.length === 1 ? order[0]! : `${order.length} tables`} of ${slug}, as its project says at ${currentTime().toISOString().slice(0, 16)}Z`;
    const functionsSchema = environment.schemaOf('functions');
    const functions = functionsOf(project, order).map((f) => compileFunction(project, f, { placeOf, functionsSchema }));
    const script = {
      title,
      needs: needsOf(project, order, placeOf, environment),
      tables: plans,
      functions,
      functionsSchema,
    };
    return form === 'script' ? loadScript(script) : loadProcedures(script);
  }

  private refuseErrors(project: Project, order: readonly string[]): void {
    const paths = new Set(order.map((t) => project.tables.get(t)!.path));
    const first = project.diagnostics.find((d) => d.severity === 'error' && paths.has(d.path));
    if (first) throw new Problem(409, 'has-errors', `${first.path}: ${first.message}`, first.hint ?? 'Fix it first.');
  }
}

/** What has to be there before a script can run: tables that it reads and does not make, and roles that its grants name. */
function needsOf(
  project: Project,
  order: readonly string[],
  placeOf: (name: string) => Place,
  environment: Environment,
): string[] {
  const made = new Set(order);
  const read = new Set(order.flatMap((name) => project.needs.get(name) ?? []).filter((name) => !made.has(name)));
  const tables = [...read].sort().map((name) => {
    const columns = (project.columns.get(name) ?? []).map((c) => `${ident(c.name)} ${c.type ?? 'text'}`);
    return `create table ${qualified(placeOf(name))} (${columns.join(', ')});`;
  });
  const schemas = [...new Set([...read].map((name) => placeOf(name).schema))]
    .sort()
    .map((schema) => `create schema ${ident(schema)};`);
  const grants = order.flatMap((name) => {
    const table = project.tables.get(name)!;
    const text = project.files.get(table.path)!.text;
    const after = table.kind === 'definition' && environment.kind === 'production' ? table.after : [];
    return after
      .filter((a) => a.kind === 'grant')
      .flatMap((a) =>
        [...(/\bto\s+([\s\S]*)$/i.exec(text.slice(a.start, a.end))?.[1] ?? '').matchAll(/"(?:[^"]|"")+"|[\w$]+/g)].map(
          (m) => m[0],
        ),
      );
  });
  const roles = [...new Set(grants)]
    .filter((role) => !['public', 'with', 'grant', 'option'].includes(role.toLowerCase()))
    .sort();
  return [...schemas, ...tables, ...roles.map((role) => `create role ${role};`)];
}

function rowsOf(project: Project, table: ReferenceTable): NonNullable<ScriptTable['rows']> {
  const { header, rows } = readCsv(project.files.get(table.csvPath)!.text);
  return { header, values: rows };
}
