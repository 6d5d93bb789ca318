import type { FilesAnswer } from '@ouvrage/api/project';
import { select } from '@ouvrage/core/graph';
import { optionOf } from '@ouvrage/core/language';
import type { Project } from '@ouvrage/core/model';
import { readProject } from '@ouvrage/core/resolve';
import { compareProjects } from '@ouvrage/core/review';
import { nearest } from '@ouvrage/core/sql';
import type { Connection } from './connection.js';
import { Ended, EXIT } from './ended.js';
import type { Options } from './options.js';

/** What a run covers, and the project that it is chosen from. */
export interface Selection {
  readonly project: Project;
  readonly tables: readonly string[];
  /** Whether nothing narrows it. */
  readonly isAll: boolean;
  readonly withInputs: boolean;
  readonly withReaders: boolean;
}

/** Which environment is meant: a target or a workspace. */
export function environmentOf(options: Options): string {
  const [target, workspace] = [options.text('target'), options.text('workspace')];
  if (target !== undefined && workspace !== undefined)
    throw new Ended(EXIT.wrongUse, '--target and --workspace exclude each other');
  if (target !== undefined && target !== 'production')
    throw new Ended(EXIT.wrongUse, `There is no target ${target}`, 'There is one: production.');
  return workspace ?? target ?? 'production';
}

const projectOf = ({ files }: FilesAnswer): Project =>
  readProject(new Map(Object.entries(files).flatMap(([path, text]) => (text === null ? [] : [[path, text] as const]))));

/**
 * The tables that options choose: those that are named by any of them, all where none is, and of these what has changed.
 * @throws Ended where a name means nothing, or where they choose but find none
 */
export async function selectionOf(connection: Connection, options: Options): Promise<Selection> {
  const at = `workspaces/${encodeURIComponent(environmentOf(options))}/files`;
  const project = projectOf(await connection.get<FilesAnswer>(at));
  const since = options.text('changed-since');
  const [named, layers, owners] = [options.texts('table'), options.texts('layer'), options.texts('owner')];
  refuse('table', named, [...project.tables.keys()]);
  refuse(
    'layer',
    layers,
    project.layers.map((l) => l.name),
  );
  const all = [...project.tables.values()].filter((t) => t.kind !== 'source');
  const ownerOf = (table: (typeof all)[number]) => (table.contract ? optionOf(table, 'owner') : undefined);
  refuse('owner', owners, [...new Set(all.flatMap((t) => ownerOf(t) ?? []))]);
  const isNamed = named.length + layers.length + owners.length > 0;
  const chosen = all
    .filter((t) => !isNamed || layers.includes(t.layer) || owners.includes(ownerOf(t) ?? ''))
    .map((t) => t.fullName);
  const tables = new Set([...named, ...chosen]);
  if (since !== undefined) {
    const before = projectOf(await connection.get<FilesAnswer>(`${at}?at=${encodeURIComponent(since)}`));
    const changed = new Set(compareProjects(before, project).tables.map((t) => t.table));
    for (const table of tables) if (!changed.has(table)) tables.delete(table);
  }
  return {
    project,
    tables: [...tables],
    isAll: !isNamed && since === undefined,
    withInputs: options.flag('with-inputs'),
    withReaders: options.flag('with-readers'),
  };
}

/** The tables of a selection in the order in which they are loaded. */
export function inOrder({ project, tables, withInputs, withReaders }: Selection): string[] {
  const chosen = select(project.needs, { tables, upstream: withInputs, downstream: withReaders });
  return project.order.filter((t) => chosen.has(t) && project.tables.get(t)?.kind !== 'source');
}

function refuse(what: string, asked: readonly string[], known: readonly string[]): void {
  const wrong = asked.find((name) => !known.includes(name));
  if (wrong === undefined) return;
  const near = nearest(wrong, known);
  throw new Ended(EXIT.wrongUse, `There is no ${what} ${wrong}`, near && `Did you mean ${near}?`);
}
