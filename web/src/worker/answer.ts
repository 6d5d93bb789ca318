import { inline, lift } from '@ouvrage/core/anatomy';
import {
  find,
  type Leftover,
  leftoversOf,
  usesOf,
  explainOption,
  ContractEditError,
  contractView,
  editContract,
  meaningAt,
  rename,
  unknownOwners,
} from '@ouvrage/core/assist';
import { triedNames } from '@ouvrage/core/intake';
import {
  columnId,
  coverage,
  descriptionOf,
  impactOf,
  partsOfId,
  station,
  unread,
  wayBack,
  wayForward,
} from '@ouvrage/core/lineage';
import type { Project } from '@ouvrage/core/model';
import { changeFiles, readProject } from '@ouvrage/core/resolve';
import { complete, completeLink } from './complete';
import type { Answers, ColumnRef, EditImpact, Explained, Request, TraceAnswer } from './protocol';
import { placed, summarize, summarizeTable } from './summary';

/** The core in the browser: reads the project, answers each keystroke from what it changed only. */
let kept: Project | undefined;
let edited: Project | undefined;

/** Answers a request; core's parser is loaded before. */
export function answer(request: Request): Answers[keyof Answers] | Promise<Answers['format']> {
  switch (request.kind) {
    case 'open':
      kept = readProject(new Map(Object.entries(request.files)), kept);
      edited = kept;
      return summarize(kept);
    case 'edit': {
      const together = Object.entries(request.others ?? {});
      const typed = edit(request.path, request.text);
      const project = together.length ? changeFiles(typed, new Map(together)) : typed;
      const owners = request.owners ? unknownOwners(project, request.path, request.owners) : [];
      const own = [...project.diagnostics.filter((d) => d.path === request.path), ...owners];
      const table = [...project.tables.values()].find((t) => t.path === request.path && t.kind !== 'source');
      return {
        diagnostics: own.map((d) => placed(project, d)),
        impact: impactBetween(kept!, project),
        leftovers: leftoversIn(project, request.path),
        ...(table ? { table: summarizeTable(project, table) } : {}),
        ...(table?.kind === 'definition' ? { contract: contractView(project, table) } : {}),
      };
    }
    case 'contract':
      return changed(request);
    case 'complete': {
      const offered = request.path.endsWith('.md') ? completeLink : complete;
      return offered(edit(request.path, request.text), request.text, request.offset);
    }
    case 'trace':
      return trace(kept!, request);
    case 'drafts':
      return impactBetween(changeFiles(kept!, new Map(Object.entries(request.base))), kept!);
    case 'unread':
      return unread(kept!);
    case 'explain':
      return explained(request);
    case 'coverage':
      return coverage(kept!);
    case 'rename':
      return rename(kept!, request.renaming);
    case 'format': {
      const project = edit(request.path, request.text);
      return import('./format').then((m) => m.formatted(project, request));
    }
    case 'lift':
      return lift(kept!, request.lift);
    case 'tryNames':
      return triedNames(kept!, request.names);
    case 'uses':
      return usesOf(kept!, request.of);
    case 'find':
      return find(kept!, request.search);
    case 'inline':
      return inline(kept!, request.view);
  }
}

function leftoversIn(project: Project, path: string): readonly Leftover[] {
  const file = project.files.get(path);
  return file ? leftoversOf(file) : [];
}

/** What one state of the project does to another, in places of the later one. */
function impactBetween(before: Project, project: Project): EditImpact {
  const { breaks, values, rows } = impactOf(before, project);
  return {
    breaks: breaks.map((d) => placed(project, d)),
    values: values.map((id) => partsOfId(project, id)),
    rows,
  };
}

/** What the word at an offset means: an option of a contract, a table, or a column with where it comes from. */
function explained({ path, text, offset }: Extract<Request, { kind: 'explain' }>): Explained | null {
  const option = explainOption(text, offset);
  if (option) return option;
  const project = edit(path, text);
  const name = meaningAt(project, path, offset);
  if (!name) return null;
  const { start, end } = name;
  if (name.kind === 'table') {
    const help = project.tables.get(name.table)?.comment ?? 'No description.';
    const named = { kind: 'table', table: name.table } as const;
    return { start, end, title: name.table, help, target: { table: name.table }, named };
  }
  const [origin, ...others] = name.origins;
  const description = others.length || origin === undefined ? undefined : descriptionOf(project, origin);
  const from = name.origins.length ? `From ${name.origins.join(', ')}.` : 'From no column of the project.';
  return {
    start,
    end,
    title: `${name.name} ${name.type ?? ''}`.trim(),
    help: description ? `${description.text} ${from}` : from,
    ...(origin === undefined ? {} : { target: partsOfId(project, origin) }),
    ...(origin === undefined || others.length ? {} : { named: { kind: 'column', ...partsOfId(project, origin) } }),
  };
}

function trace(project: Project, { table, column }: ColumnRef): TraceAnswer | null {
  const id = columnId(table, column);
  const back = wayBack(project, id);
  if (back.length === 0) return null;
  const { values, influenced, rows } = wayForward(project, id);
  const ref = (of: string) => partsOfId(project, of);
  return {
    back,
    values: values.map((v) => ref(v.id)),
    forward: values.flatMap((v) => station(project, v.id, v.distance) ?? []),
    influenced: influenced.map(ref),
    rows,
  };
}

function changed({ path, text, edits }: Extract<Request, { kind: 'contract' }>): Answers['contract'] {
  try {
    return { text: editContract(path, text, edits) };
  } catch (error) {
    if (error instanceof ContractEditError) return { problem: error.message };
    throw error;
  }
}

/** The kept project with one file as it is being typed. */
function edit(path: string, text: string): Project {
  const base = edited && edited.files.size === kept!.files.size ? edited : kept!;
  const changes = new Map<string, string | null>([[path, text]]);
  for (const [other, file] of base.files) {
    if (other !== path && kept!.files.get(other) !== file) changes.set(other, kept!.files.get(other)?.text ?? null);
  }
  return (edited = changeFiles(base, changes));
}
