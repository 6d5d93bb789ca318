import { optionOf } from '../language/contract.js';
import { didYouMean } from '../sql/nearest.js';
import { readCsv } from '../index/csv.js';
import type { Diagnostic } from '../model/diagnostic.js';
import type { Definition, Each, IndexedFile, Layer, ReferenceTable, Table } from '../model/project.js';

/** Schemas that Ouvrage or PostgreSQL keep for themselves. */
const TAKEN = /^(functions|ouvrage|reference|information_schema|public|pg_.*)$/;
/** Room for a workspace's prefix in a name of 63 bytes. */
const LONGEST_SCHEMA = 32;

/** What a definition with `for_each` makes: a table a row of its list, or why it cannot. */
export interface FanOut {
  readonly tables: readonly Definition[];
  readonly diagnostics: readonly Diagnostic[];
}

const known = new WeakMap<Definition, WeakMap<IndexedFile, FanOut>>();

/** Whether a definition makes one table a row of a list. */
export const fansOut = (table: Definition): boolean =>
  optionOf(table, 'for_each') !== undefined || optionOf(table, 'each_schema') !== undefined;

/** The tables of a definition with `for_each`, each in a schema of its own. @param csv the file of the list, if there is one */
export function fanOut(
  table: Definition,
  tables: ReadonlyMap<string, Table>,
  layers: readonly Layer[],
  csvOf: (list: ReferenceTable) => IndexedFile | undefined,
): FanOut {
  const list = tables.get(optionOf(table, 'for_each') ?? '');
  const csv = list?.kind === 'reference' ? csvOf(list) : undefined;
  if (list?.kind !== 'reference' || !csv) return { tables: [table], diagnostics: [notAList(table, tables)] };
  const ofTable = known.get(table) ?? new WeakMap<IndexedFile, FanOut>();
  known.set(table, ofTable);
  const before = ofTable.get(csv);
  if (before) return before;
  const found = expand(table, list, csv, layers);
  ofTable.set(csv, found);
  return found;
}

function problem(table: Definition, option: string, message: string, hint: string): Diagnostic {
  const range = table.contract?.options.get(option)?.range ?? table.nameRange;
  return { code: 'policy', severity: 'error', path: table.path, range, message, hint };
}

function notAList(table: Definition, tables: ReadonlyMap<string, Table>): Diagnostic {
  const name = optionOf(table, 'for_each');
  const references = [...tables.values()].filter((t) => t.kind === 'reference').map((t) => t.fullName);
  if (name === undefined)
    return problem(table, 'each_schema', 'each_schema needs a list', "write for_each = 'reference.table'");
  return problem(
    table,
    'for_each',
    `for_each: ${name} is not a reference table`,
    didYouMean(name, references) ?? `there are ${references.join(', ') || 'none'}`,
  );
}

function expand(table: Definition, list: ReferenceTable, csv: IndexedFile, layers: readonly Layer[]): FanOut {
  const template = optionOf(table, 'each_schema');
  const parts = [...(template ?? '').matchAll(/\{([^}]*)\}/g)].map((m) => m[1]!);
  const alone = (message: string, hint: string, option = 'each_schema'): FanOut => ({
    tables: [table],
    diagnostics: [problem(table, option, message, hint)],
  });
  if (parts.length === 0)
    return alone(
      'each_schema has to be made from the rows of the list',
      `write each_schema = '${table.layer}_{${list.header[0] ?? 'column'}}'`,
      template === undefined ? 'for_each' : 'each_schema',
    );
  const unknown = parts.find((p) => !list.header.includes(p));
  if (unknown !== undefined)
    return alone(
      `each_schema: ${list.fullName} has no column ${unknown}`,
      didYouMean(unknown, list.header) ?? `its columns are ${list.header.join(', ')}`,
    );
  const { header, rows } = readCsv(csv.text);
  if (rows.length === 0)
    return alone(
      `${list.fullName} has no rows, so there are no tables to make`,
      `add a row to ${csv.path}`,
      'for_each',
    );
  const used = (table.query?.settings ?? []).flatMap((s) => (s.setting.startsWith('each.') ? [s] : []));
  const strange = used.find((s) => !header.includes(s.setting.slice(5)));
  if (strange) {
    const name = strange.setting.slice(5);
    const d = problem(
      table,
      'for_each',
      `${list.fullName} has no column ${name}`,
      didYouMean(name, header) ?? `its columns are ${header.join(', ')}`,
    );
    return { tables: [table], diagnostics: [{ ...d, range: strange }] };
  }
  const made: Definition[] = [];
  for (const row of rows) {
    const values = new Map(header.map((name, i) => [name, row[i] ?? '']));
    const schema = template!.replaceAll(/\{([^}]*)\}/g, (_, name: string) => values.get(name)!);
    if (parts.some((p) => values.get(p) === '') || schema.length > LONGEST_SCHEMA)
      return alone(
        `each_schema: a row of ${list.fullName} gives ‘${schema}’`,
        schema.length > LONGEST_SCHEMA
          ? `a schema’s name may have ${LONGEST_SCHEMA} characters`
          : 'give the column a value in each row',
      );
    if (layers.some((l) => l.name === schema) || TAKEN.test(schema))
      return alone(`each_schema: ${schema} is taken`, `put something before it: '${table.layer}_${template!}'`);
    const label = [...new Set(parts)].map((p) => values.get(p)).join(' ');
    const each: Each = { list: list.fullName, values, schema, label, declared: table.fullName };
    if (made.some((m) => m.each!.schema === schema))
      return alone(
        `each_schema: two rows of ${list.fullName} give ${schema}`,
        'take a column that tells the rows apart',
      );
    made.push({ ...table, fullName: `${schema}.${table.name}`, each });
  }
  return { tables: made, diagnostics: [] };
}

/** A file's tables beyond the first say the same of it: the diagnostics of one are enough. */
export function ofOneEach(diagnostics: readonly Diagnostic[], tables: ReadonlyMap<string, Table>): Diagnostic[] {
  const fanned = new Set([...tables.values()].flatMap((t) => (t.kind === 'definition' && t.each ? [t.path] : [])));
  if (fanned.size === 0) return [...diagnostics];
  const seen = new Set<string>();
  return diagnostics.filter((d) => {
    if (!fanned.has(d.path)) return true;
    const place = `${d.path} ${d.range.start} ${d.code}`;
    if (seen.has(place)) return false;
    seen.add(place);
    return true;
  });
}

/** The schema of a table: its layer, or that of its row of a list. */
export const schemaNameOf = (table: Pick<Table, 'layer'> & { readonly each?: Each | undefined }): string =>
  table.each?.schema ?? table.layer;

/** Every schema that a project's tables stand in, in an environment that names layers as they are. */
export function schemaNames(layers: readonly Layer[], tables: Iterable<Table>): string[] {
  const fanned = [...tables].flatMap((t) => (t.kind === 'definition' && t.each ? [t.each.schema] : []));
  return [...new Set([...layers.map((l) => l.name), ...fanned])];
}
