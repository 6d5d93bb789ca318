import { Injectable } from '@nestjs/common';
import { partsOfId, sensitiveOf, visibleColumns, type SensitiveColumns } from '@ouvrage/core/lineage';
import { projectAround, QueryScopes, resolveColumns } from '@ouvrage/core/columns';
import type { Environment, Place, Project, Query } from '@ouvrage/core/model';
import { ident, idents, qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService, type Line } from '../project/project.service.js';
import { ROLES } from '../shared/config.js';
import { Problem } from '../shared/problem.js';
import type { Standing } from '../warehouse/loaded.js';
import { lookingRole } from '../warehouse/reader.service.js';
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
  /** Two who grant the same at once would fail. */
  private granting: Promise<unknown> = Promise.resolve();

  constructor(
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
  ) {}

  /** The columns of a table that who looks may not see; of an editor none. */
  async hidden(line: Line, table: string): Promise<SensitiveColumns> {
    if (lookingRole() !== 'viewer') return new Map();
    return sensitiveOf(line.project, table, await this.released(line));
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

  private make(environment: Environment, rights: readonly Right[]): Promise<void> {
    const done = this.granting.then(() =>
      this.warehouse.session(this.warehouse.builder(environment), (client) => this.makeNow(client, rights)),
    );
    this.granting = done.catch(() => undefined);
    return done;
  }

  private async makeNow(client: pg.PoolClient, rights: readonly Right[]): Promise<void> {
    const { rows } = await client.query<Found>(FOUND, [
      rights.map((r) => r.place.schema),
      rights.map((r) => r.place.name),
      ROLES.viewer,
    ]);
    const changes = rows.flatMap((found) => {
      const right = rights.find((r) => r.place.schema === found.schema && r.place.name === found.name)!;
      return changesOf(found, right);
    });
    if (changes.length) await client.query(changes.join(';\n'));
    const closed = [...new Set(rows.flatMap((r) => (r.usage ? [] : [r.schema])))];
    // Schemas are the production builder's, those of workspaces too.
    if (closed.length)
      await this.warehouse.session('production', (owner) =>
        owner.query(`grant usage on schema ${idents(closed)} to ${ident(ROLES.viewer)}`),
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
    const around = projectAround((table) => project.columns.get(table), project.functions);
    const { columns, rows } = resolveColumns(query.select, around);
    const named = new QueryScopes(query.select, around).mentions.flatMap((m) => m.value.value);
    const needed = new Set([...(columns ?? []).flatMap((c) => [...c.origins, ...c.influence]), ...rows, ...named]);
    for (const id of needed) {
      const { table, column } = partsOfId(project, id);
      const why = sensitiveOf(project, table, released).get(column);
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
