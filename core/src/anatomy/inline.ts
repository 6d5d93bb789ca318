import { isView } from '../language/policies.js';
import type { Definition, Project, Query } from '../model/project.js';
import { changeFiles } from '../resolve/read-project.js';
import { applyEdits, type Edit } from '../sql/edits.js';
import { plainIdent } from '../sql/quote.js';
import { nextToken } from '../sql/tokens.js';
import type { LiftedFile } from './lift.js';

export type Inlined =
  | {
      readonly files: readonly LiftedFile[];
      /** What the view says beside its query, and is lost: to be agreed to. */
      readonly losses: readonly string[];
    }
  | { readonly obstacle: string };

/** Puts a view's query as a common table expression into the one query that reads it; the view goes. */
export function inline(project: Project, view: string): Inlined {
  const of = project.tables.get(view);
  if (of?.kind !== 'definition' || !of.query || !isView(of)) return { obstacle: `${view} is not a view` };
  if (of.each) return { obstacle: `${of.path} makes a view for each row of a list` };
  const readers = readersOf(project, of);
  const [reader] = readers;
  if (!reader || readers.length > 1)
    return {
      obstacle: readers.length
        ? `${view} is read in ${readers.length} places: ${readers.map((r) => r.path).join(', ')}`
        : `nothing reads ${view}`,
    };
  if (!reader.query) return { obstacle: `${reader.path} needs ${view} otherwise than in a query` };
  const name = freeName(project, reader, of.name);
  const { text } = project.files.get(reader.path)!;
  const edits: Edit[] = reader.query.tables
    .filter((t) => `${t.layer}.${t.name}` === view)
    .map(({ start, end, bare }) => ({
      start,
      end,
      text: bare && name !== of.name ? `${name} as ${plainIdent(of.name)}` : name,
    }));
  const cte = `${name} as (\n${castQuery(project, of)}\n)`;
  const first = nextToken(text, reader.query.start)!;
  const isWith = first.text.toLowerCase() === 'with';
  const second = isWith ? nextToken(text, first.end)! : undefined;
  const at = second?.text.toLowerCase() === 'recursive' ? second.end : first.end;
  edits.push(
    isWith
      ? { start: at, end: at, text: ` ${cte},` }
      : { start: reader.query.start, end: reader.query.start, text: `with ${cte}\n` },
  );
  const after = applyEdits(text, edits).text;
  const changed = changeFiles(
    project,
    new Map<string, string | null>([
      [reader.path, after],
      [of.path, null],
    ]),
  );
  const known = new Set(project.diagnostics.map((d) => d.message));
  const fresh = changed.diagnostics.find((d) => d.severity === 'error' && !known.has(d.message));
  if (fresh) return { obstacle: `${fresh.path} would have a problem: ${fresh.message}` };
  return {
    files: [
      { path: reader.path, before: text, after },
      { path: of.path, before: project.files.get(of.path)!.text, after: null },
    ],
    losses: lossesOf(project, of),
  };
}

interface Reader {
  readonly path: string;
  readonly query: Query | undefined;
}

/** All that names a view: queries of definitions, checks and ad hoc ones, contracts and functions. */
function readersOf(project: Project, { fullName, path: own }: Definition): Reader[] {
  const names = (query: Pick<Query, 'tables'>) => query.tables.some((t) => `${t.layer}.${t.name}` === fullName);
  const found: Reader[] = [];
  for (const table of project.tables.values()) {
    if (table.path === own || table.kind !== 'definition') continue;
    if (table.query && names(table.query)) found.push({ path: table.path, query: table.query });
    if (table.contract?.constraints.some((c) => c.references?.table === fullName))
      found.push({ path: table.path, query: undefined });
  }
  for (const { path, query } of [...project.checks.values(), ...project.adhoc.values()])
    if (names(query)) found.push({ path, query });
  for (const f of project.functions.values()) if (names(f)) found.push({ path: f.path, query: undefined });
  return found;
}

/** The view's query, in the types of its contract where it has one. */
function castQuery(project: Project, of: Definition): string {
  const { text } = project.files.get(of.path)!;
  const query = text.slice(of.query!.start, of.query!.end);
  if (!of.contract) return query;
  const columns = of.contract.columns.map((c) => `cast(q.${plainIdent(c.name)} as ${c.type}) as ${plainIdent(c.name)}`);
  return `select ${columns.join(',\n       ')}\nfrom (\n${query}\n) as q`;
}

/** The view's name, unless the reader's query has it for something of its own. */
function freeName(project: Project, { path, query }: Reader, name: string): string {
  const { text } = project.files.get(path)!;
  const written = text.slice(query!.start, query!.end);
  const isTaken = (n: string) => new RegExp(`\\b${n}\\s+as\\s+(not\\s+)?(materialized\\s+)?\\(`, 'i').test(written);
  let free = name;
  for (let n = 2; isTaken(free); n++) free = `${name}_${n}`;
  return plainIdent(free);
}

function lossesOf(project: Project, of: Definition): string[] {
  const { text } = project.files.get(of.path)!;
  return [
    ...(of.contract?.constraints ?? []).map((c) => `the check ${c.name}`),
    ...of.after.map(
      ({ kind, start, end }) => `${kind === 'grant' ? 'a grant' : `an ${kind}`}: ${text.slice(start, end)}`,
    ),
    ...(of.comment === undefined ? [] : ['the description of the view']),
    ...(of.contract?.columns ?? []).flatMap((c) => (c.comment === undefined ? [] : [`the description of ${c.name}`])),
  ];
}
