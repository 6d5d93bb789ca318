import { badOption, nearOr } from '../language/messages.js';
import { warningAt, type Diagnostic } from '../model/diagnostic.js';
import type { Project } from '../model/project.js';
import { nearest } from '../sql/nearest.js';

/**
 * Owners that a file names and whom nobody can tell: they are neither a desk nor a person.
 * @param names desks and people; case does not matter
 */
export function unknownOwners(project: Project, path: string, names: readonly string[]): Diagnostic[] {
  const known = new Set(names.map((n) => n.trim().toLowerCase()));
  const found = new Map<number, Diagnostic>();
  for (const table of project.tables.values()) {
    const owner = table.path === path ? table.contract?.options.get('owner') : undefined;
    if (!owner || known.has(owner.value.trim().toLowerCase())) continue;
    // Tables of a fan-out share their file.
    found.set(
      owner.range.start,
      warningAt(
        { path, range: owner.range },
        badOption(
          'owner',
          `${owner.value} is neither a desk nor a person`,
          nearOr(nearest(owner.value, names), 'an administrator adds desks under Settings'),
        ),
      ),
    );
  }
  return [...found.values()];
}
