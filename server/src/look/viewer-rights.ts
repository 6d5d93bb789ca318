import { Injectable } from '@nestjs/common';
import { partsOfId, sensitiveColumns, sensitiveOf, visibleColumns, type SensitiveColumns } from '@ouvrage/core/lineage';
import { projectAround, QueryScopes, resolveColumns } from '@ouvrage/core/columns';
import type { Environment, Place, Project, Query } from '@ouvrage/core/model';
import { ident, idents, qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService, type Line } from '../project/project.service.js';
import { ROLES } from '../shared/config.js';
import { Problem } from '../shared/problem.js';
import type { Standing } from '../warehouse/loaded.js';
import { lookingPerson, lookingRole } from '../warehouse/reader.service.js';
import { isDatabaseError } from '../warehouse/sql-error.js';
import { SeenService } from './seen.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';

/** A table, and the columns of it that viewers may select. */
interface Right {
  readonly place: Place;
  readonly columns: 'all' | readonly string[];
}

/** The rights of a relation as they are: of all of it, or of columns. */
interface Found {
  readonly schema: string;
  readonly name: string;
  readonly usage: boolean;
  readonly whole: boolean;
  readonly granted: readonly string[];
  readonly columns: readonly string[];
}

/** A table that is being changed lets nobody wait for long. */
const PATIENCE = '2s';
const LOCK_NOT_HAD = '55P03';
const ATTEMPTS = 5;

const FOUND = `
select n.nspname as schema, c.relname as name, has_schema_privilege($3, n.oid, 'usage') as usage,
  exists (select from aclexplode(c.relacl) a where a.grantee = $3::regrole and a.privilege_type = 'SELECT') as whole,
  array(select t.attname::text from pg_attribute t, aclexplode(t.attacl) a
    where t.attrelid = c.oid and a.grantee = $3::regrole and a.privilege_type = 'SELECT' and not t.attisdropped order by 1) as granted,
  array(select t.attname::text from pg_attribute t where t.attrelid = c.oid and t.attnum > 0 and not t.attisdropped order by 1) as columns
from unnest($1::text[], $2::text[]) as w (schema, name)
join pg_namespace n on n.nspname = w.schema join pg_class c on c.relnamespace = n.oid and c.relname = w.name`;

/**
 * What viewers may see in the database. Their role has a right to a column only where the project says that it is not
 * sensitive: a swap leaves it without any, and what somebody looks at is granted before, so that a right is never
 * older than the declarations.
 */
@Injectable()
export class ViewerRights {
  constructor(
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly seen: SeenService,
  ) {}

  /** The columns of a table that who looks may not see; of an editor none, whose look at them is written down. */
  async hidden(line: Line, table: string): Promise<SensitiveColumns> {
    if (lookingRole() === 'viewer') return sensitiveOf(line.project, table, await this.released(line));
    await this.noteAll(line, [table]);
    return new Map();
  }

  /**
   * Grants viewers what they may see of tables that are read for them.
   * @param tables those that a statement names
   */
  async grant(line: Line, tables: Iterable<string>, standings: ReadonlyMap<string, Standing>): Promise<void> {
    if (lookingRole() !== 'viewer') return;
    const released = await this.released(line);
    const wanted = new Map<'here' | 'production', Right[]>();
    for (const table of tables) {
      const standing = standings.get(table);
      if (!standing?.place || standing.where === 'nowhere') continue;
      // Of a table of production, production decides.
      const project = standing.where === 'production' ? released : line.project;
      const right = { place: standing.place, columns: visibleColumns(project, table, released) };
      wanted.set(standing.where, [...(wanted.get(standing.where) ?? []), right]);
    }
    for (const [where, rights] of wanted)
      await this.make(where === 'here' ? line.environment : this.projects.environmentOf(undefined), rights);
  }

  private async released(line: Line): Promise<Project> {
    return line.workspace ? (await this.projects.line(PRODUCTION)).project : line.project;
  }

  /** @throws Problem where a release or a load holds one of the tables */
  private async make(environment: Environment, rights: readonly Right[]): Promise<void> {
    for (let attempt = 1; ; attempt++) {
      try {
        return await this.warehouse.session(this.warehouse.builder(environment), (c) => this.makeNow(c, rights));
      } catch (error) {
        // Somebody else has granted the same in between.
        const isRepeated = isDatabaseError(error) && /tuple concurrently/.test(error.message);
        if (isRepeated && attempt < ATTEMPTS) continue;
        if (isDatabaseError(error) && error.code === LOCK_NOT_HAD)
          throw new Problem(
            503,
            'busy',
            'A table is being changed, so rights to it cannot be checked',
            'Try again soon.',
          );
        throw error;
      }
    }
  }

  private async makeNow(client: pg.ClientBase, rights: readonly Right[]): Promise<void> {
    const { rows } = await client.query<Found>(FOUND, [
      rights.map((r) => r.place.schema),
      rights.map((r) => r.place.name),
      ROLES.viewer,
    ]);
    const changes = rows.flatMap((found) => {
      const right = rights.find((r) => r.place.schema === found.schema && r.place.name === found.name)!;
      return changesOf(found, right);
    });
    if (changes.length)
      await client.query(['begin', `set local lock_timeout = '${PATIENCE}'`, ...changes, 'commit'].join(';\n'));
    const closed = [...new Set(rows.flatMap((r) => (r.usage ? [] : [r.schema])))];
    // Schemas are the production builder's, those of workspaces too.
    if (closed.length)
      await this.warehouse.session('production', (owner) =>
        owner.query(`grant usage on schema ${idents(closed)} to ${ident(ROLES.viewer)}`),
      );
  }

  /** Writes down which sensitive columns an editor sees values of in the rows of a query; of unknown columns, all that it may read. */
  async note(line: Line, query: Query): Promise<void> {
    if (lookingPerson() === undefined || lookingRole() === 'viewer') return;
    const { project } = line;
    const sensitive = sensitiveColumns(project, await this.released(line));
    const reads = query.tables.map((t) => `${t.layer ?? ''}.${t.name}`);
    if (!reads.some((table) => sensitive.has(table))) return;
    const around = projectAround((table) => project.columns.get(table), project.functions);
    const { columns } = resolveColumns(query.select, around);
    if (!columns) return this.noteAll(line, reads);
    await this.seen.columns(sensitiveAmong(project, sensitive, new Set(columns.flatMap((c) => c.origins))));
  }

  /** Writes down that an editor may see all sensitive columns of tables. */
  async noteAll(line: Line, tables: readonly string[]): Promise<void> {
    if (lookingRole() === 'viewer') return;
    const sensitive = sensitiveColumns(line.project, await this.released(line));
    await this.seen.columns(
      new Map(tables.flatMap((t) => (sensitive.has(t) ? [[t, new Set(sensitive.get(t)!.keys())] as const] : []))),
    );
  }

  /**
   * Refuses a query that needs what its viewer may not see, and says why; the database would refuse it, too.
   * @throws Problem that names the first such column
   */
  async refuse(line: Line, query: Query): Promise<void> {
    if (lookingRole() !== 'viewer') return;
    const released = await this.released(line);
    const { project } = line;
    const sensitive = sensitiveColumns(project, released);
    // Most queries read nothing of the kind: they are not read once more.
    if (!query.tables.some((t) => sensitive.has(`${t.layer ?? ''}.${t.name}`))) return;
    const around = projectAround((table) => project.columns.get(table), project.functions);
    const { columns, rows } = resolveColumns(query.select, around);
    const named = new QueryScopes(query.select, around).mentions.flatMap((m) => m.value.value);
    const needed = new Set([...(columns ?? []).flatMap((c) => [...c.origins, ...c.influence]), ...rows, ...named]);
    for (const id of needed) {
      const { table, column } = partsOfId(project, id);
      const why = sensitive.get(table)?.get(column);
      if (why)
        throw new Problem(
          403,
          'sensitive',
          `${table}.${column} is sensitive (${why.kind}): viewers do not see it`,
          why.from === id
            ? 'Leave it out; instead of * name the other columns.'
            : `It comes from ${why.from}. Leave it out; instead of * name the other columns.`,
          { table, column },
        );
    }
  }
}

/** The statements that make rights what they should be. */
function changesOf(found: Found, { place, columns }: Right): string[] {
  const role = ident(ROLES.viewer);
  const on = `on table ${qualified(place)}`;
  if (columns === 'all') return found.whole ? [] : [`grant select ${on} to ${role}`];
  const wanted = columns.filter((c) => found.columns.includes(c)).sort();
  if (!found.whole && wanted.join('\n') === [...found.granted].sort().join('\n')) return [];
  // Of the whole table taken back, the columns' rights go with it.
  const taken = found.granted.length ? [`revoke select (${idents(found.granted)}) ${on} from ${role}`] : [];
  return [
    ...(found.whole ? [`revoke select ${on} from ${role}`] : []),
    ...taken,
    ...(wanted.length ? [`grant select (${idents(wanted)}) ${on} to ${role}`] : []),
  ];
}

/** The sensitive ones among columns, by table. @param ids of columns */
function sensitiveAmong(
  project: Project,
  sensitive: ReadonlyMap<string, SensitiveColumns>,
  ids: Iterable<string>,
): Map<string, Set<string>> {
  const found = new Map<string, Set<string>>();
  for (const id of ids) {
    const { table, column } = partsOfId(project, id);
    if (sensitive.get(table)?.has(column)) found.set(table, (found.get(table) ?? new Set()).add(column));
  }
  return found;
}
