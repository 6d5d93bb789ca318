import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';
import type { Layer, Server, Table } from '../../../model/project.js';
import { remotePlace, WAREHOUSE_SERVER } from '../../../model/source.js';
import { sourceOfOwnLayer, unknownServer } from '../../messages.js';

/** Source tables of servers that no file creates. */
export function serverDiagnostics(tables: Iterable<Table>, servers: ReadonlyMap<string, Server>): Diagnostic[] {
  return [...tables].flatMap((table) => {
    if (table.kind !== 'source' || table.server === WAREHOUSE_SERVER || servers.has(table.server)) return [];
    const finding = unknownServer(table.fullName, table.server, servers.keys());
    return errorAt({ path: table.path, range: table.nameRange }, finding);
  });
}

/** What the project makes is read as a table of the project: as a source it would be brought in before it is made. */
export function ownTableDiagnostics(tables: Iterable<Table>, layers: readonly Layer[]): Diagnostic[] {
  return [...tables].flatMap((table) => {
    if (table.kind !== 'source' || table.server !== WAREHOUSE_SERVER) return [];
    const { schema, name } = remotePlace(table);
    if (!layers.some((l) => l.name === schema)) return [];
    return errorAt({ path: table.path, range: table.nameRange }, sourceOfOwnLayer(table.fullName, schema, name));
  });
}
