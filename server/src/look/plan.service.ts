import type { PlanAnswer } from '@ouvrage/api/anatomy';
import type { PreviewSample } from '@ouvrage/api/rows';
import { Injectable } from '@nestjs/common';
import {
  adviceOn,
  anatomyOf,
  planNodes,
  type Explained,
  type PlanNode,
  type ScannedTable,
} from '@ouvrage/core/anatomy';
import { projectAround } from '@ouvrage/core/columns';
import { compileText } from '@ouvrage/core/compile';
import { isView } from '@ouvrage/core/language';
import type { Project } from '@ouvrage/core/model';
import { qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { Problem } from '../shared/problem.js';
import type { Standing } from '../warehouse/loaded.js';
import { ReaderService, TIMEOUT_SECONDS } from '../warehouse/reader.service.js';
import { isOfStatement, stepError } from '../warehouse/sql-error.js';
import { stepOut } from './anatomy.service.js';
import { QueryPreparer } from './prepare-query.js';

export interface PlanAsked {
  readonly path: string;
  readonly text: string;
  readonly sample?: PreviewSample | undefined;
  readonly analyze: boolean;
}

const STOPPED_BY_LIMIT = /statement timeout/;

/** Asks PostgreSQL how it works a query out, as the reader, and says what would make it faster. */
@Injectable()
export class PlanService {
  constructor(
    private readonly preparer: QueryPreparer,
    private readonly reader: ReaderService,
  ) {}

  async plan(slug: string, { path, text, sample, analyze }: PlanAsked, signal: AbortSignal): Promise<PlanAnswer> {
    const { line, query } = await this.preparer.written(slug, path, text);
    const standings = await this.preparer.standings(line);
    const standIns = sample && (await this.preparer.standIn(line, standings, sample, signal));
    const prepared = await this.preparer.prepared(line, { path, query }, standings, standIns);
    const { project } = line;
    const file = project.files.get(path)!;
    const around = projectAround((table) => project.columns.get(table), project.functions);
    const { steps } = anatomyOf({ file, query, around }, prepared.names, prepared.finish);
    const full = prepared.finish(compileText(file, query, query, prepared.names));
    try {
      return await this.reader.read(signal, async (client) => {
        const { explained, endedBehind } = await explain(client, full.text, analyze);
        const nodes = planNodes(explained, steps);
        const tables = await scannedTables(client, nodes, project, standings);
        return {
          nodes,
          advice: adviceOn(nodes, (node) => tables.get(qualified(node.relation!))),
          steps: steps.map(stepOut),
          executionTime: explained['Execution Time'] ?? null,
          planningTime: explained['Planning Time'] ?? 0,
          sql: full.text,
          ...(endedBehind === undefined ? {} : { endedBehind }),
        };
      });
    } catch (error) {
      if (!isOfStatement(error)) throw error;
      const place = stepError(error, project, { path, original: full.original });
      throw new Problem(422, 'query-failed', place.message, place.hint, { error: place, sql: full.text });
    }
  }
}

/** A plan with what happened; where the query takes longer than a person may, the planner's alone. */
async function explain(
  client: pg.ClientBase,
  sql: string,
  analyze: boolean,
): Promise<{ explained: Explained; endedBehind?: number }> {
  const ask = async (options: string) => {
    const { rows } = await client.query<{ 'QUERY PLAN': string | readonly Explained[] }>({
      text: `explain (${options}) ${sql}`,
      queryMode: 'extended',
    } as pg.QueryConfig);
    const plan = rows[0]!['QUERY PLAN'];
    return ((typeof plan === 'string' ? JSON.parse(plan) : plan) as readonly Explained[])[0]!;
  };
  const PLANNED = 'verbose, summary, format json';
  if (!analyze) return { explained: await ask(PLANNED) };
  await client.query('savepoint before_plan');
  try {
    return { explained: await ask('analyze, buffers, verbose, format json') };
  } catch (error) {
    if (!(error instanceof Error && STOPPED_BY_LIMIT.test(error.message))) throw error;
    await client.query('rollback to savepoint before_plan');
    return { explained: await ask(PLANNED), endedBehind: TIMEOUT_SECONDS };
  }
}

interface CatalogRow {
  readonly schema: string;
  readonly name: string;
  readonly indexed: readonly string[];
  readonly varying: readonly string[];
  readonly stale: string;
}

/** What the catalog says of the project's tables that a plan scans, by place. */
async function scannedTables(
  client: pg.ClientBase,
  nodes: readonly PlanNode[],
  project: Project,
  standings: ReadonlyMap<string, Standing>,
): Promise<Map<string, ScannedTable>> {
  const tables = new Map(
    [...standings].flatMap(([table, { place }]) => (place ? [[qualified(place), table] as const] : [])),
  );
  const scanned = new Set(nodes.flatMap((n) => (n.relation ? [qualified(n.relation)] : [])));
  const places = [...scanned].filter((p) => tables.has(p));
  const { rows } = await client.query<CatalogRow>(
    `select n.nspname as schema, c.relname as name,
       to_json(array(select distinct a.attname::text from pg_index i join pg_attribute a on a.attrelid = c.oid and a.attnum = i.indkey[0] where i.indrelid = c.oid)) as indexed,
       to_json(array(select a.attname::text from pg_attribute a where a.attrelid = c.oid and a.atttypid = 'varchar'::regtype)) as varying,
       (case when coalesce(s.last_analyze, s.last_autoanalyze) is null then 1
             else least(1, s.n_mod_since_analyze::double precision / greatest(1, s.n_live_tup)) end)::text as stale
     from unnest($1::text[]) as p(place) join pg_class c on c.oid = to_regclass(p.place)
     join pg_namespace n on n.oid = c.relnamespace
     left join pg_stat_all_tables s on s.relid = c.oid`,
    [places],
  );
  return new Map(
    rows.map(({ schema, name, indexed, varying, stale }) => {
      const place = qualified({ schema, name });
      const table = tables.get(place)!;
      const of = project.tables.get(table);
      const parsed = (list: unknown) => (typeof list === 'string' ? JSON.parse(list) : list) as readonly string[];
      return [
        place,
        {
          table,
          canHaveIndex: of?.kind === 'definition' && !isView(of),
          indexed: parsed(indexed),
          varying: parsed(varying),
          staleShare: Number(stale),
        },
      ];
    }),
  );
}
