import { applyEdits } from '../sql/edits.js';
import { literal } from '../sql/quote.js';
import type { Project } from '../model/project.js';

/**
 * The files that set parameters, with other values: a run with them is a run of a project that says
 * so, and its tables are told from those of the defaults by their fingerprints.
 *
 * @param values by the parameters' names; names that no file sets are passed over
 */
export function withParameterValues(project: Project, values: ReadonlyMap<string, string>): Map<string, string> {
  const texts = new Map<string, string>();
  const changed = [...project.parameters.values()].filter((p) => values.has(p.name) && values.get(p.name) !== p.value);
  for (const path of new Set(changed.map((p) => p.path))) {
    const edits = changed
      .filter((p) => p.path === path)
      .map((p) => ({ ...p.range, text: `set param.${p.name} = ${literal(values.get(p.name)!)}` }));
    texts.set(path, applyEdits(project.files.get(path)!.text, edits).text);
  }
  return texts;
}
