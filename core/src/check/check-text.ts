import { functionsOf } from '../graph/functions.js';
import { digest } from '../model/digest.js';
import type { Project } from '../model/project.js';
import { settingsOf } from '../model/settings.js';
import { withoutLayout } from '../sql/tokens.js';
import { checksOf, type Check } from './checks.js';

const known = new WeakMap<Project, ReadonlyMap<string, string>>();

/** A digest of what each check of a project says, by its id: checks with the same one find the same rows at fault, and judge them alike. */
export function checkDigests(project: Project): ReadonlyMap<string, string> {
  let digests = known.get(project);
  if (!digests) {
    digests = new Map(checksOf(project).map((c) => [c.id, digest(textOf(project, c))]));
    known.set(project, digests);
  }
  return digests;
}

/** A digest of what the contract of a table says, without layout and comments; undefined where it has none. */
export function contractDigest(project: Project, name: string): string | undefined {
  const table = project.tables.get(name);
  const file = table && project.files.get(table.path);
  if (!table?.contract || !file) return undefined;
  return digest(withoutLayout(file.text, table.contract.range.start, table.contract.range.end));
}

function textOf(project: Project, check: Check): string {
  switch (check.kind) {
    case 'policy':
      return check.title;
    case 'query': {
      const { query, path } = project.checks.get(check.name)!;
      const settings = settingsOf(project);
      return [
        withoutLayout(project.files.get(path)!.text, query.start, query.end),
        ...query.settings.map((s) => `${s.setting}=${settings.get(s.setting) ?? ''}`),
        ...judged(check),
        ...functionTexts(project, [], [query]),
      ].join('\n');
    }
    default:
      return [
        check.kind,
        check.columns.join(', '),
        ...(check.expression === undefined ? [] : [withoutLayout(check.expression)]),
        ...(check.references ? [`${check.references.table} ${check.references.columns.join(', ')}`] : []),
        ...judged(check),
        ...(check.expression?.includes('functions.') ? functionTexts(project, [check.table], []) : []),
      ].join('\n');
  }
}

const judged = ({ advisory, tolerate }: Check): string[] => [
  ...(advisory ? ['advisory'] : []),
  ...(tolerate ? [JSON.stringify(tolerate)] : []),
];

const functionTexts = (
  project: Project,
  ...of: [Parameters<typeof functionsOf>[1], Parameters<typeof functionsOf>[2]]
) => functionsOf(project, ...of).map((f) => withoutLayout(project.files.get(f.path)!.text, f.range.start, f.range.end));

/** A check that a project has otherwise than another one. */
export interface ChangedCheck {
  readonly change: 'new' | 'changed' | 'deleted';
  readonly check: Check;
}

/** The checks that are new, changed or deleted between two projects; those that come with a load follow its policy and are left out. */
export function changedChecks(before: Project, after: Project): ChangedCheck[] {
  const [old, now] = [checkDigests(before), checkDigests(after)];
  const changed = checksOf(after).flatMap((check): ChangedCheck[] => {
    const was = old.get(check.id);
    return was === now.get(check.id) ? [] : [{ change: was === undefined ? 'new' : 'changed', check }];
  });
  const deleted = checksOf(before)
    .filter((check) => !now.has(check.id))
    .map((check): ChangedCheck => ({ change: 'deleted', check }));
  return [...changed, ...deleted].filter(({ check }) => check.kind !== 'policy');
}
