import type { Diagnostic } from '../model/diagnostic.js';
import type { AdhocQuery, CheckQuery, IndexedFile, Layer, Parameter, ProjectFunction, Server } from '../model/project.js';

/** What files declare, put together by name; of two of one name the later counts. */
export interface Gathered {
  readonly layers: readonly Layer[];
  readonly parameters: ReadonlyMap<string, Parameter>;
  readonly servers: ReadonlyMap<string, Server>;
  readonly functions: ReadonlyMap<string, ProjectFunction>;
  readonly checks: ReadonlyMap<string, CheckQuery>;
  readonly adhoc: ReadonlyMap<string, AdhocQuery>;
  readonly diagnostics: readonly Diagnostic[];
}

const byName = <T extends { readonly name: string }>(all: readonly T[]): ReadonlyMap<string, T> => new Map(all.map((of) => [of.name, of]));

/** The first phase: all that files declare but for tables, which need each other. */
export function gather(files: ReadonlyMap<string, IndexedFile>): Gathered {
  const all = [...files.values()];
  return {
    layers: all.flatMap((f) => f.layers),
    parameters: byName(all.flatMap((f) => f.parameters)),
    servers: byName(all.flatMap((f) => f.servers)),
    functions: byName(all.flatMap((f) => f.functions)),
    checks: byName(all.flatMap((f) => f.checks)),
    adhoc: byName(all.flatMap((f) => f.adhoc)),
    diagnostics: all.flatMap((f) => f.diagnostics),
  };
}
