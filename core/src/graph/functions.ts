import { CONDITIONS } from '../language/options.js';
import { afterInputs } from './graph.js';
import { namesFunctions, readCondition } from '../index/condition.js';

import type { Contract, Project, Query, ProjectFunction } from '../model/project.js';
/** The project's functions that the checks and options of a contract name. */
function functionsOfContract({ constraints, options }: Contract): string[] {
  const conditions = [
    ...constraints.flatMap((c) => c.expression ?? []),
    ...CONDITIONS.flatMap((name) => options.get(name)?.value ?? []),
  ];
  return conditions.filter(namesFunctions).flatMap((condition) => {
    try {
      return readCondition(condition).found.functions.map((f) => f.name);
    } catch {
      // A condition that cannot be read is a diagnostic of the project, not of who asks for its functions.
      return [];
    }
  });
}

/**
 * The functions that a set of tables needs, each after those that it calls itself.
 * @param queries others that need functions
 */
export function functionsOf(
  project: Project,
  tables: Iterable<string>,
  queries: readonly Pick<Query, 'functions'>[] = [],
): ProjectFunction[] {
  const named = function* (): Generator<string> {
    for (const { functions } of queries) for (const { name } of functions) yield name;
    for (const full of tables) {
      const table = project.tables.get(full);
      if (table?.kind === 'definition') for (const { name } of table.query?.functions ?? []) yield name;
      if (table?.contract && table.kind !== 'source') yield* functionsOfContract(table.contract);
    }
  };
  return afterInputs(named(), (name) => project.functions.get(name)?.functions.map((f) => f.name)).map((name) =>
    project.functions.get(name)!,
  );
}
