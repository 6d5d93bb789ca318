import type { Project, Definition } from './project.js';
/** The values of all parameters under their setting names, `param.x`. */
export function settingsOf(project: Project, values: ReadonlyMap<string, string> = new Map()): Map<string, string> {
  return new Map([...project.parameters.values()].map((p) => [`param.${p.name}`, values.get(p.name) ?? p.value]));
}

/** Values of settings, with those of a table's row of its list. */
export function withEach(settings: ReadonlyMap<string, string>, table: Pick<Definition, 'each'>): Map<string, string> {
  return new Map([
    ...settings,
    ...[...(table.each?.values ?? [])].map(([name, value]) => [`each.${name}`, value] as const),
  ]);
}
