import { optionOf } from '../language/contract.js';
import { readCsv } from '../index/csv.js';
import { errorAt, type Diagnostic } from '../model/diagnostic.js';
import {
  asFinding,
  badSchema,
  emptyList,
  listLacks,
  missingValue,
  noColumnInTemplate,
  notAList,
  sameSchema,
  schemaTaken,
  schemaTooLong,
  withoutList,
  type FanOutMessage,
} from './fan-out-messages.js';
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
  if (list?.kind !== 'reference' || !csv) return { tables: [table], diagnostics: [noList(table, tables)] };
  const ofTable = known.get(table) ?? new WeakMap<IndexedFile, FanOut>();
  known.set(table, ofTable);
  const before = ofTable.get(csv);
  if (before) return before;
  const found = expand(table, list, csv, layers);
  ofTable.set(csv, found);
  return found;
}

function problem(table: Definition, option: string, message: FanOutMessage): Diagnostic {
  const range = table.contract?.options.get(option)?.range ?? table.nameRange;
  return errorAt({ path: table.path, range }, asFinding(table.policy, message));
}

function noList(table: Definition, tables: ReadonlyMap<string, Table>): Diagnostic {
  const name = optionOf(table, 'for_each');
  const references = [...tables.values()].filter((t) => t.kind === 'reference').map((t) => t.fullName);
  return name === undefined
    ? problem(table, 'each_schema', withoutList)
    : problem(table, 'for_each', notAList(name, references));
}

function expand(table: Definition, list: ReferenceTable, csv: IndexedFile, layers: readonly Layer[]): FanOut {
  const template = optionOf(table, 'each_schema');
  const parts = [...(template ?? '').matchAll(/\{([^}]*)\}/g)].map((m) => m[1]!);
  const alone = (message: FanOutMessage, option = 'each_schema'): FanOut => ({
    tables: [table],
    diagnostics: [problem(table, option, message)],
  });
  if (parts.length === 0)
    return alone(noColumnInTemplate(table.layer, list.header[0]), template === undefined ? 'for_each' : 'each_schema');
  const unknown = parts.find((p) => !list.header.includes(p));
  if (unknown !== undefined) return alone(listLacks(list.fullName, unknown, list.header));
  const { header, rows } = readCsv(csv.text);
  if (rows.length === 0) return alone(emptyList(list.fullName, csv.path), 'for_each');
  const used = (table.query?.settings ?? []).flatMap((s) => (s.setting.startsWith('each.') ? [s] : []));
  const strange = used.find((s) => !header.includes(s.setting.slice(5)));
  if (strange) {
    const name = strange.setting.slice(5);
    const d = problem(table, 'for_each', listLacks(list.fullName, name, header));
    return { tables: [table], diagnostics: [{ ...d, range: strange }] };
  }
  const made: Definition[] = [];
  for (const row of rows) {
    const values = new Map(header.map((name, i) => [name, row[i] ?? '']));
    const schema = template!.replaceAll(/\{([^}]*)\}/g, (_, name: string) => values.get(name)!);
    if (parts.some((p) => values.get(p) === '') || schema.length > LONGEST_SCHEMA)
      return alone(
        badSchema(list.fullName, schema, schema.length > LONGEST_SCHEMA ? schemaTooLong(LONGEST_SCHEMA) : missingValue),
      );
    if (layers.some((l) => l.name === schema) || TAKEN.test(schema))
      return alone(schemaTaken(schema, table.layer, template!));
    const label = [...new Set(parts)].map((p) => values.get(p)).join(' ');
    const each: Each = { list: list.fullName, values, schema, label, declared: table.fullName };
    if (made.some((m) => m.each!.schema === schema)) return alone(sameSchema(list.fullName, schema));
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
