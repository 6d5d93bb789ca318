import { boundedName } from '../sql/quote.js';

/** Where a table is in the warehouse. */
export interface Place {
  readonly schema: string;
  readonly name: string;
}

/** Where definitions are built, and who may read what is built there. */
export interface Environment {
  readonly kind: 'production' | 'workspace';
  /** The schema of a layer, or of the project's functions. */
  readonly schemaOf: (layer: string) => string;
  /** Roles that get SELECT on every table built here. */
  readonly readers: readonly string[];
}

/** Production: a layer's schema bears its name. */
export function productionEnvironment(readers: readonly string[]): Environment {
  return { kind: 'production', schemaOf: (layer) => layer, readers };
}

/** A workspace: `w_berth_dues_core`. The prefix is the workspace's own and unique. */
export function workspaceEnvironment(prefix: string, readers: readonly string[]): Environment {
  return { kind: 'workspace', schemaOf: (layer) => boundedName(prefix, `_${layer}`), readers };
}

/** `Berth dues!` becomes `w_berth_dues`; `taken` keeps two workspaces apart. */
export function workspacePrefix(name: string, taken: (prefix: string) => boolean): string {
  const plain = name
    .normalize('NFKD')
    .toLowerCase()
    .replaceAll(/[^a-z0-9]+/g, '_')
    .replaceAll(/^_+|_+$/g, '');
  const base = `w_${(plain || 'workspace').slice(0, 30)}`;
  for (let n = 1; ; n++) {
    const prefix = n === 1 ? base : `${base}_${n}`;
    if (!taken(prefix)) return prefix;
  }
}

/** The schema beside one, where tables are built before they are swapped in under the same name. */
export function stagedSchema(schema: string): string {
  return boundedName(schema, '~next');
}
