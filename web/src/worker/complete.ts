import { joinConditions, namesAt, optionChoices } from '@ouvrage/core/assist';
import type { Project } from '@ouvrage/core/model';
import { schemaNameOf } from '@ouvrage/core/resolve';
import type { Completion, CompletionAnswer } from './protocol';

const KEYWORDS = [
  'select',
  'from',
  'where',
  'join',
  'left join',
  'on',
  'using',
  'group by',
  'order by',
  'having',
  'limit',
  'with',
  'as',
  'case',
  'when',
  'then',
  'else',
  'end',
  'distinct',
  'union all',
  'and',
  'or',
  'not',
  'is null',
  'is not null',
  'in',
  'exists',
  'between',
  'like',
  'coalesce',
  'nullif',
  'cast',
  'count',
  'sum',
  'min',
  'max',
  'avg',
  'create table',
  'create view',
  'primary key',
  'references',
  'check',
  'comment on column',
];

/** What a link of a note can lead to, behind `[`: tables, columns behind a table, checks. */
export function completeLink(project: Project, text: string, offset: number): CompletionAnswer | null {
  const [, name] = /\[([a-z0-9_.]*)$/.exec(text.slice(Math.max(0, offset - 200), offset)) ?? [];
  if (name === undefined) return null;
  const [layer, table] = name.split('.');
  const columns = table === undefined ? undefined : project.columns.get(`${layer}.${table}`);
  if (columns && name.split('.').length === 3)
    return {
      from: offset - name.length + name.lastIndexOf('.') + 1,
      options: columns.map((c): Completion => ({
        label: c.name,
        kind: 'column',
        ...(c.type ? { detail: c.type } : {}),
      })),
    };
  return {
    from: offset - name.length,
    options: [
      ...[...project.tables.values()].map((t): Completion => ({
        label: t.fullName,
        kind: 'table',
        ...(t.comment ? { detail: t.comment } : {}),
      })),
      ...[...project.checks.keys()].map((c): Completion => ({ label: `checks.${c}`, kind: 'option' })),
    ],
  };
}

/** What can be written at `offset`: columns behind an alias, tables of a layer, or whatever is in scope. */
export function complete(project: Project, text: string, offset: number): CompletionAnswer | null {
  const before = /(?:([A-Za-z_][\w$]*)\.)?([A-Za-z_][\w$]*)?$/.exec(text.slice(0, offset));
  const [, qualifier, word = ''] = before ?? [];
  const from = offset - word.length;
  const choices = qualifier === undefined ? optionChoices(text, offset) : undefined;
  if (choices)
    return choices.length
      ? { from, options: choices.map(({ label, help }): Completion => ({ label, kind: 'option', detail: help })) }
      : null;
  const { ranges, ctes } = namesAt(project, text, offset);
  if (qualifier !== undefined) {
    const range = ranges.find((r) => r.name === qualifier && r.columns.length > 0);
    if (range)
      return {
        from,
        options: range.columns.map((c) => ({ label: c.name, kind: 'column', ...(c.type ? { detail: c.type } : {}) })),
      };
    if (qualifier === 'functions')
      return {
        from,
        options: [...project.functions.keys()].map((label) => ({ label, kind: 'function', apply: `${label}(` })),
      };
    const tables = [...project.tables.values()].filter((t) => schemaNameOf(t) === qualifier);
    return tables.length
      ? {
          from,
          options: tables.map((t) => ({ label: t.name, kind: 'table', ...(t.comment ? { detail: t.comment } : {}) })),
        }
      : null;
  }
  // The item that ON belongs to is named just before it.
  const [, joined] = /([\w$]+)\s+on\s+[\w$]*$/i.exec(text.slice(0, offset)) ?? [];
  const right = joined === undefined ? undefined : ranges.find((r) => r.name === joined.toLowerCase());
  if (right) {
    const left = ranges.slice(0, ranges.indexOf(right));
    const conditions = joinConditions(project, left, right);
    if (conditions.length)
      return {
        from,
        options: conditions.map((c): Completion => ({ label: c.text, kind: 'column', detail: c.reason })),
      };
  }
  const expectsTable = /\b(from|join)\s+[\w$]*$/i.test(text.slice(0, offset));
  if (word === '' && !expectsTable && !/[\s(,]$/.test(text.slice(0, offset))) return null;
  const tables = (): Completion[] => [
    ...ctes.map((c): Completion => ({ label: c.name, kind: 'alias', detail: c.of })),
    ...[...project.tables.values()].map((t): Completion => ({
      label: t.fullName,
      kind: 'table',
      ...(t.comment ? { detail: t.comment } : {}),
    })),
  ];
  if (expectsTable) return { from, options: tables() };
  const columns = ranges.flatMap((r) =>
    r.columns.map((c): Completion => ({ label: c.name, kind: 'column', detail: `${c.type ?? ''} ${r.name}`.trim() })),
  );
  const aliases = ranges
    .filter((r) => r.name !== '')
    .map((r): Completion => ({ label: r.name, kind: 'alias', detail: r.of }));
  const layers = project.layers.map((l): Completion => ({ label: l.name, kind: 'layer', apply: `${l.name}.` }));
  return {
    from,
    options: [...columns, ...aliases, ...layers, ...KEYWORDS.map((label): Completion => ({ label, kind: 'keyword' }))],
  };
}
