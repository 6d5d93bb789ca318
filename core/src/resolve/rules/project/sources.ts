import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';
import type { Layer, Server, Table } from '../../../model/project.js';
import { remotePlace, WAREHOUSE_SERVER } from '../../../model/source.js';
import { didYouMean } from '../../../sql/nearest.js';

/** Source tables of servers that no file creates. */
export function serverDiagnostics(tables: Iterable<Table>, servers: ReadonlyMap<string, Server>): Diagnostic[] {
  return [...tables].flatMap((table) => {
    if (table.kind !== 'source' || table.server === WAREHOUSE_SERVER || servers.has(table.server)) return [];
    const hint = didYouMean(table.server, servers.keys()) ?? `write create server ${table.server}`;
    const message = `${table.fullName} is of server ${table.server}, which no file creates`;
    return errorAt({ path: table.path, range: table.nameRange }, 'unknown-table', message, { hint });
  });
}

/** What the project makes is read as a table of the project: as a source it would be brought in before it is made. */
export function ownTableDiagnostics(tables: Iterable<Table>, layers: readonly Layer[]): Diagnostic[] {
  return [...tables].flatMap((table) => {
    if (table.kind !== 'source' || table.server !== WAREHOUSE_SERVER) return [];
    const { schema, name } = remotePlace(table);
    if (!layers.some((l) => l.name === schema)) return [];
    const message = `${table.fullName} is assigned to ${schema}, which is a layer of the project`;
    return errorAt({ path: table.path, range: table.nameRange }, 'bad-option', message, {
      hint: `read ${schema}.${name} itself`,
    });
  });
}
