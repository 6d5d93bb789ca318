import { layerStatements } from '@ouvrage/core/assist';
import { checksOf, checkTitle, tableOfCheck } from '@ouvrage/core/check';
import { columnWith, roleOf as columnRole, POLICIES, specOf, type Role, optionOf } from '@ouvrage/core/language';
import type { Definition, Project, Table } from '@ouvrage/core/model';
import { lineColumn } from '@ouvrage/core/sql';
import { carriedOwners, columnId, descriptionOf, sensitiveOf, partsOfId } from '@ouvrage/core/lineage';
import { relationsOf } from '@ouvrage/core/starter';
import type { ColumnSummary, PlacedDiagnostic, ProjectSummary, TableSummary } from './protocol';

/** A project as plain data for the interface. */
export function summarize(project: Project): ProjectSummary {
  return {
    layers: project.layers.map(({ name, comment }) => ({ name, ...(comment ? { comment } : {}) })),
    layerStatements: project.files.has('layers.sql') ? layerStatements(project.files.get('layers.sql')!) : [],
    tables: [...project.tables.values()].map((t) => summarizeTable(project, t)),
    servers: [...project.servers.values()]
      .filter((s) => s.name !== 'warehouse' && s.wrapper !== 'file_fdw')
      .map((s) => s.name),
    parameters: [...project.parameters.values()].map(({ name, value }) => ({ name, value })),
    relations: relationsOf(project),
    checks: checksOf(project).map((c) => ({ ...c, title: checkTitle(c), concerns: tableOfCheck(c) })),
    adhoc: [...project.adhoc.values()].map(({ name, path }) => ({ name, path })),
    examples: [...project.examples.values()].flat().map(({ table, name, files }) => ({
      table,
      name,
      files: files.map(({ path, part }) => ({ path, part })),
    })),
    diagnostics: project.diagnostics.map((d) => placed(project, d)),
  };
}

export function placed(project: Project, d: Project['diagnostics'][number]): PlacedDiagnostic {
  return { ...d, ...lineColumn(project.files.get(d.path)?.text ?? '', d.range.start) };
}

export function summarizeTable(project: Project, table: Table): TableSummary {
  const owner = table.kind === 'definition' ? optionOf(table, 'owner') : undefined;
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
    ...(table.kind === 'definition' && table.each ? { declared: table.each.declared } : {}),
    hasContract: table.contract !== undefined,
    reads: project.reads.get(table.fullName) ?? [],
    ...(columns ? { columns } : {}),
    ...dimensionOf(table),
    ...historyOf(table),
    ...(table.comment === undefined ? {} : { comment: table.comment }),
    ...(owner === undefined ? ownersAround(project, table) : { owner }),
    ...(keys.size ? { grain: `one row per ${[...keys].join(', ')}` } : {}),
  };
}

function ownersAround(project: Project, table: Table): Pick<TableSummary, 'carriedOwners'> {
  const found = carriedOwners(project, table);
  return found.length ? { carriedOwners: found } : {};
}

/** Roles of columns that differ between versions which say the same. */
const FILLED_BY_A_LOAD: readonly Role[] = ['surrogate key', 'current flag', 'version number', 'loaded at', 'run id'];

const businessKey = (table: Definition) => specOf(table).key;

function dimensionOf(table: Table): Pick<TableSummary, 'dimension'> {
  const surrogate = table.contract && columnWith(table.contract, 'surrogate key');
  if (table.kind !== 'definition' || surrogate === undefined) return {};
  return { dimension: { surrogate, key: businessKey(table) } };
}

function historyOf(table: Table): Pick<TableSummary, 'history'> {
  if (table.kind !== 'definition' || !POLICIES[table.policy].versions || !table.contract) return {};
  const named = (role: Role) => columnWith(table.contract!, role);
  const [validFrom, validTo] = [named('valid from'), named('valid to')];
  const key = businessKey(table);
  if (validFrom === undefined || validTo === undefined || key.length === 0) return {};
  const filled = FILLED_BY_A_LOAD.flatMap((role) => named(role) ?? []);
  return { history: { key, validFrom, validTo, filled } };
}

function columnsOf(project: Project, table: Table, keys: ReadonlySet<string>): ColumnSummary[] | undefined {
  const declared = new Map(table.contract?.columns.map((c) => [c.name, c]));
  const comments = table.kind === 'definition' ? table.columnComments : new Map<string, string>();
  const hidden = sensitiveOf(project, table.fullName);
  return project.columns.get(table.fullName)?.map((c) => {
    const declaration = declared.get(c.name);
    const comment = declaration?.comment ?? comments.get(c.name);
    const role = declaration && columnRole(declaration);
    const sensitive = hidden.get(c.name);
    const carried = comment === undefined ? carriedBy(project, table, c.name) : undefined;
    return {
      name: c.name,
      origins: c.origins,
      isKey: keys.has(c.name),
      notNull: declaration?.notNull ?? false,
      ...(c.type === undefined ? {} : { type: c.type }),
      ...(comment === undefined ? {} : { comment }),
      ...(carried === undefined ? {} : { carried }),
      ...(role === undefined ? {} : { role }),
      ...(sensitive ? { sensitive } : {}),
    };
  });
}

function carriedBy(project: Project, { fullName }: Table, column: string): ColumnSummary['carried'] {
  const found = descriptionOf(project, columnId(fullName, column));
  return found && { text: found.text, from: partsOfId(project, found.from) };
}
