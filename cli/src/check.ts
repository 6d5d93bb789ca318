import type { Diagnostic, Project } from '@ouvrage/core/model';
import { readProject } from '@ouvrage/core/resolve';
import { lineColumn } from '@ouvrage/core/sql';
import { EXIT, type Exit, type Surroundings } from './ended.js';
import { junit, type JunitCase } from './junit.js';
import { filesIn } from './project-folder.js';

export type Format = 'text' | 'json' | 'junit';

/** A diagnostic with its place as people count: lines and columns from 1. */
interface Told {
  readonly path: string;
  readonly line: number;
  readonly column: number;
  readonly severity: Diagnostic['severity'];
  readonly code: Diagnostic['code'];
  readonly message: string;
  readonly hint?: string;
}

/** Reads the project of a folder with neither server nor database, and says what is wrong with it. */
export function check(folder: string, format: Format, { out }: Pick<Surroundings, 'out'>): Exit {
  const project = readProject(filesIn(folder));
  const found = toldOf(project);
  const errors = found.filter((d) => d.severity === 'error').length;
  out(REPORTS[format](project, found));
  return errors > 0 ? EXIT.broken : EXIT.well;
}

function toldOf({ diagnostics, files }: Project): Told[] {
  return diagnostics
    .map(({ path, range, severity, code, message, hint }): Told => ({
      path,
      ...lineColumn(files.get(path)?.text ?? '', range.start),
      severity,
      code,
      message,
      ...(hint === undefined ? {} : { hint }),
    }))
    .sort((a, b) => (a.path === b.path ? a.line - b.line || a.column - b.column : a.path < b.path ? -1 : 1));
}

const lineOf = (d: Told): string =>
  `${d.path}:${d.line}:${d.column}: ${d.severity}: ${d.message}${d.hint === undefined ? '' : `; ${d.hint}`}`;

const counted = (n: number, one: string): string => `${n} ${one}${n === 1 ? '' : 's'}`;

const REPORTS: Readonly<Record<Format, (project: Project, found: readonly Told[]) => string>> = {
  text: (project, found) => {
    const errors = found.filter((d) => d.severity === 'error').length;
    const others = found.length - errors;
    return [
      ...found.map(lineOf),
      `${counted(project.files.size, 'file')}, ${counted(project.tables.size, 'table')}: ${counted(errors, 'error')}${others > 0 ? `, ${counted(others, 'hint')}` : ''}`,
      '',
    ].join('\n');
  },
  json: (project, found) =>
    `${JSON.stringify({ files: project.files.size, tables: project.tables.size, diagnostics: found }, null, 2)}\n`,
  junit: (project, found) => {
    const suites = new Map<string, JunitCase[]>();
    for (const path of [...project.files.keys()].sort()) {
      const errors = found.filter((d) => d.path === path && d.severity === 'error');
      suites.set(path, [
        errors.length === 0
          ? { name: 'resolves' }
          : { name: 'resolves', failure: { message: errors[0]!.message, text: errors.map(lineOf).join('\n') } },
      ]);
    }
    return junit('check', suites);
  },
};
