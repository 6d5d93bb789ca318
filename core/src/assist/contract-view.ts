import type { LoadPolicy } from '../model/load-policy.js';
import { projectAround } from '../columns/around.js';
import { resolveColumns } from '../columns/columns.js';
import { helperColumns, isFilled } from '../language/contract.js';
import type { Column, ConstraintKind, Definition, IndexedFile, Project } from '../model/project.js';
import { constraintRange } from '../index/contract.js';

/** A contract as a form shows it: plain data. */
export interface ContractView {
  readonly policy: LoadPolicy;
  /** False where the definition has none yet. */
  readonly declared: boolean;
  readonly columns: readonly ContractColumn[];
  readonly constraints: readonly ContractConstraint[];
  readonly options: Readonly<Record<string, string>>;
  readonly comment?: string;
  readonly differences: ContractDifferences;
}

export interface ContractColumn {
  readonly name: string;
  readonly type: string;
  readonly notNull: boolean;
  readonly options: Readonly<Record<string, string>>;
  readonly comment?: string;
  /** The load gives it its value: the query does not return it. */
  readonly filled: boolean;
}

export interface ContractConstraint {
  readonly name: string;
  readonly kind: ConstraintKind;
  readonly columns: readonly string[];
  /** As the author wrote it. */
  readonly text: string;
}

/** The contract held against the query. */
export interface ContractDifferences {
  /** Columns of the query that the contract lacks; a type where it is known. */
  readonly missing: readonly { readonly name: string; readonly type?: string }[];
  /** Columns of the contract that neither the query nor the load gives. */
  readonly extra: readonly string[];
  readonly types: readonly { readonly name: string; readonly declared: string; readonly ofQuery: string }[];
}

/** The columns that a definition's query returns; undefined where they cannot be reported. */
function queryColumns(project: Project, table: Definition): readonly Column[] | undefined {
  if (!table.query) return undefined;
  const around = projectAround((name) => project.columns.get(name), project.functions);
  return resolveColumns(table.query.select, around).columns;
}

export function contractView(project: Project, table: Definition): ContractView {
  const file = project.files.get(table.path)!;
  const { contract } = table;
  return {
    policy: table.policy,
    declared: contract !== undefined,
    columns: (contract?.columns ?? []).map((c) => {
      const comment = table.columnComments.get(c.name);
      return {
        name: c.name,
        type: c.type,
        notNull: c.notNull,
        options: c.options,
        filled: isFilled(c),
        ...(comment === undefined ? {} : { comment }),
      };
    }),
    constraints: (contract?.constraints ?? []).map(({ name, kind, columns, start }) => ({
      name,
      kind,
      columns,
      text: constraintText(file, start, kind),
    })),
    options: Object.fromEntries([...(contract?.options ?? [])].map(([name, o]) => [name, o.value])),
    ...(table.comment === undefined ? {} : { comment: table.comment }),
    differences: differencesOf(table, queryColumns(project, table)),
  };
}

function constraintText(file: IndexedFile, start: number, kind: ConstraintKind): string {
  const { end } = constraintRange(file.text, start);
  return kind === 'not null' ? 'not null' : file.text.slice(start, end);
}

function differencesOf(table: Definition, query: readonly Column[] | undefined): ContractDifferences {
  const declared = table.contract?.columns ?? [];
  if (!query) return { missing: [], extra: [], types: [] };
  const helpers = table.contract ? helperColumns(table) : new Set<string>();
  return {
    missing: query
      .filter((q) => !helpers.has(q.name) && !declared.some((d) => d.name === q.name))
      .map(({ name, type }) => (type === undefined ? { name } : { name, type })),
    extra: declared.filter((d) => !isFilled(d) && !query.some((q) => q.name === d.name)).map((d) => d.name),
    types: declared.flatMap((d) => {
      const ofQuery = isFilled(d) ? undefined : query.find((q) => q.name === d.name)?.type;
      return ofQuery === undefined || ofQuery === d.type ? [] : [{ name: d.name, declared: d.type, ofQuery }];
    }),
  };
}
