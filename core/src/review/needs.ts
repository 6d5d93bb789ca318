import { optionOf } from '../language/contract.js';
import type { Project, ReviewRule } from '../model/project.js';
import { compareProjects, type ProjectChange } from './changes.js';

/** Who must approve a change before it is released. */
export interface ReviewNeeds {
  /** How many people besides its authors. */
  readonly approvals: number;
  /** Owners of whom one person each must have approved, with the tables that they own among the changed ones. */
  readonly owners: ReadonlyMap<string, readonly string[]>;
}

/** What a project asks of changes in a layer; a rule for the layer goes before the one for all. */
const ruleFor = (project: Project, name: ReviewRule['name'], layer?: string): string | undefined =>
  (
    project.reviewRules.find((r) => r.name === name && r.layer === layer) ??
    project.reviewRules.find((r) => r.name === name && r.layer === undefined)
  )?.value;

const layerOf = (table: string): string => table.slice(0, table.indexOf('.'));

/** Tables of either project that a change is of: their files or what they hold differ; not what only reads them. */
export function changedOwnTables(before: Project, after: Project, change: ProjectChange): string[] {
  const paths = new Set(change.files.map((f) => f.path));
  const ofFiles = [before, after].flatMap((project) =>
    [...project.tables.values()].filter(
      (t) =>
        paths.has(t.path) || (t.kind === 'reference' && paths.has(t.csvPath)) || paths.has(`docs/${t.fullName}.md`),
    ),
  );
  const own = change.tables.filter((t) => t.kind !== 'downstream').flatMap((t) => [t.table, t.was ?? t.table]);
  return [...new Set([...ofFiles.map((t) => t.fullName), ...own])].sort();
}

/** Rules that one of two projects has and the other has not, or with another value. */
const changedRules = (before: Project, after: Project): ReviewRule[] =>
  [
    [before, after],
    [after, before],
  ].flatMap(([one, other]) =>
    one!.reviewRules.filter(
      (r) => !other!.reviewRules.some((o) => o.name === r.name && o.layer === r.layer && o.value === r.value),
    ),
  );

/**
 * What a release from one state of a project to another needs. Both are asked, so that nobody takes a rule or an owner
 * away with the change that they would have stopped: the stricter counts. A changed rule needs what it asks itself.
 */
export function reviewNeeds(before: Project, after: Project): ReviewNeeds {
  const change = compareProjects(before, after);
  if (change.files.length === 0) return { approvals: 0, owners: new Map() };
  const tables = changedOwnTables(before, after, change);
  const rules = changedRules(before, after);
  const counts = [before, after].flatMap((project) =>
    [undefined, ...tables.map(layerOf)].map((layer) => Number(ruleFor(project, 'approvals', layer) ?? 0)),
  );
  const ofRules = rules.filter((r) => r.name === 'approvals').map((r) => Number(r.value));
  const freed = rules.filter((r) => r.name === 'by_owner' && r.value === 'true').map((r) => r.layer);
  const owners = new Map<string, string[]>();
  for (const project of [before, after])
    for (const table of project.tables.values()) {
      const owner = optionOf(table, 'owner')?.trim();
      const isChanged =
        tables.includes(table.fullName) && [before, after].some((p) => ruleFor(p, 'by_owner', table.layer) === 'true');
      const isFreed = freed.some((layer) => layer === undefined || layer === table.layer);
      if (!owner || !(isChanged || isFreed)) continue;
      owners.set(owner, [...new Set([...(owners.get(owner) ?? []), table.fullName])]);
    }
  return { approvals: Math.max(0, ...counts, ...ofRules), owners };
}
