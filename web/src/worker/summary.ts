import { checksOf, checkTitle, layerStatements, lineColumn, namesIn, optionOf, relationsOf, type Definition, type Project, type Table } from '@ouvrage/core';
import type { ColumnSummary, PlacedDiagnostic, ProjectSummary, TableSummary } from './protocol';

/** A project as plain data for the interface. */
export function summarize(project: Project): ProjectSummary {
  return {
    layers: project.layers.map(({ name, comment }) => ({ name, ...(comment ? { comment } : {}) })),
    layerStatements: project.files.has('layers.sql') ? layerStatements(project.files.get('layers.sql')!) : [],
    tables: [...project.tables.values()].map((t) => summarizeTable(project, t)),
    servers: [...project.servers.values()].filter((s) => s.name !== 'warehouse' && s.wrapper !== 'file_fdw').map((s) => s.name),
    parameters: [...project.parameters.values()].map(({ name, value }) => ({ name, value })),
    relations: relationsOf(project),
    checks: checksOf(project).map((c) => ({ ...c, title: checkTitle(c) })),
    adhoc: [...project.adhoc.values()].map(({ name, path }) => ({ name, path })),
    diagnostics: project.diagnostics.map((d) => placed(project, d)),
  };
}

export function placed(project: Project, d: Project['diagnostics'][number]): PlacedDiagnostic {
  return { ...d, ...lineColumn(project.files.get(d.path)?.text ?? '', d.range.start) };
}

export function summarizeTable(project: Project, table: Table): TableSummary {
  const owner = table.contract?.options.get('owner')?.value;
  const keys = new Set(table.contract?.constraints.filter((c) => c.kind === 'primary key').flatMap((c) => c.columns));
  const columns = columnsOf(project, table, keys);
  return {
    fullName: table.fullName,
    layer: table.layer,
    name: table.kind === 'definition' && table.each ? `${table.name} · ${table.each.label}` : table.name,
    path: table.path,
    ...(table.kind === 'reference' ? { csvPath: table.csvPath } : {}),
    kind: table.kind,
    policy: table.kind === 'definition' ? table.policy : table.kind === 'source' ? 'intake' : 'reference',
    hasContract: table.contract !== undefined,
    reads: project.reads.get(table.fullName) ?? [],
    ...(columns ? { columns } : {}),
    ...dimensionOf(table),
    ...historyOf(table),
    ...(table.comment === undefined ? {} : { comment: table.comment }),
    ...(owner === undefined ? {} : { owner }),
    ...(keys.size ? { grain: `one row a ${[...keys].join(', ')}` } : {}),
  };
}

const businessKey = (table: Definition) => namesIn(optionOf(table, 'business_key'));

function dimensionOf(table: Table): Pick<TableSummary, 'dimension'> {
  const surrogate = table.contract?.columns.find((c) => c.options['role'] === 'surrogate key')?.name;
  if (table.kind !== 'definition' || surrogate === undefined) return {};
  return { dimension: { surrogate, key: businessKey(table) } };
}

function historyOf(table: Table): Pick<TableSummary, 'history'> {
  if (table.kind !== 'definition' || table.policy !== 'history' || !table.contract) return {};
  const named = (role: string) => table.contract!.columns.find((c) => c.options['role'] === role)?.name;
  const [validFrom, validTo] = [named('valid from'), named('valid to')];
  const key = businessKey(table);
  if (validFrom === undefined || validTo === undefined || key.length === 0) return {};
  const filled = ['surrogate key', 'current flag', 'version number', 'loaded at', 'run id'].flatMap((role) => named(role) ?? []);
  return { history: { key, validFrom, validTo, filled } };
}

function columnsOf(project: Project, table: Table, keys: ReadonlySet<string>): ColumnSummary[] | undefined {
  const declared = new Map(table.contract?.columns.map((c) => [c.name, c]));
  const comments = table.kind === 'definition' ? table.columnComments : new Map<string, string>();
  return project.columns.get(table.fullName)?.map((c) => {
    const declaration = declared.get(c.name);
    const comment = declaration?.comment ?? comments.get(c.name);
    const role = declaration?.options['role'];
    return {
      name: c.name,
      origins: c.origins,
      isKey: keys.has(c.name),
      notNull: declaration?.notNull ?? false,
      ...(c.type === undefined ? {} : { type: c.type }),
      ...(comment === undefined ? {} : { comment }),
      ...(role === undefined ? {} : { role }),
    };
  });
}
