import type { Node, SelectStmt } from 'libpg-query';
import { projectAround } from '../columns/around.js';
import type { Field } from '../columns/value.js';
import { optionOf } from '../language/contract.js';
import type { Definition, Project } from '../model/project.js';
import { changeFiles } from '../resolve/read-project.js';
import { applyEdits, type Edit } from '../sql/edits.js';
import { strings } from '../sql/nodes.js';
import { byteToCharacter, type Range } from '../sql/positions.js';
import { plainIdent } from '../sql/quote.js';
import type { Span } from './clauses.js';
import { eachNode } from './conditions.js';
import { anatomyOf } from './read.js';
import type { Anatomy, StepOrigin } from './step.js';

/** Which step becomes a definition, and of what name. */
export interface Lift {
  /** The definition whose query has the step. */
  readonly table: string;
  readonly step: string;
  /** `layer.name` of the new one. */
  readonly as: string;
  readonly kind: 'view' | 'table';
}

export interface LiftedFile {
  readonly path: string;
  readonly before: string | null;
  readonly after: string | null;
}

export type Lifted = { readonly files: readonly LiftedFile[]; readonly note?: string } | { readonly obstacle: string };

const NAME = /^[a-z_][a-z0-9_]*$/;
const NAMES = { placeOf: () => undefined, functionsSchema: 'functions' };

/**
 * Makes a step of a query a definition of its own, which the query reads instead. The project is read again with it:
 * where the query would have other columns or a new problem, nothing is lifted and the reason is said.
 */
export function lift(project: Project, { table, step, as, kind }: Lift): Lifted {
  const of = project.tables.get(table);
  if (of?.kind !== 'definition' || !of.query) return { obstacle: `${table} has no query` };
  const [layer, name] = as.split('.');
  if (!layer || !name || !NAME.test(name))
    return { obstacle: `${as} is not a table's name: write layer.name, in small letters, digits and _` };
  if (!project.layers.some((l) => l.name === layer)) return { obstacle: `there is no layer ${layer}` };
  if (project.tables.has(as)) return { obstacle: `there is a table ${as} already` };
  if (of.each)
    return { obstacle: `${of.path} makes a table for each row of a list: lift its step by hand into the same folder` };
  const file = project.files.get(of.path)!;
  const around = projectAround((t) => project.columns.get(t), project.functions);
  const anatomy = anatomyOf({ file, query: of.query, around }, NAMES, (compiled) => compiled);
  const origin = anatomy.origins.get(step);
  if (!origin) return { obstacle: 'only a join, a filter, a subquery or a common table expression can be lifted' };
  if (origin.before === 'several') return { obstacle: 'it is in a WITH inside another WITH: lift the outer one first' };
  const taken = new Taking(file.text, of, anatomy, as).take(origin);
  if (typeof taken === 'string') return { obstacle: taken };
  const after = applyEdits(file.text, taken.edits).text;
  const path = `${layer}/${name}.sql`;
  const text = kind === 'view' ? `${taken.query};\n` : `create table ${as} as\n${taken.query};\n`;
  const changed = changeFiles(
    project,
    new Map([
      [of.path, after],
      [path, text],
    ]),
  );
  const problem = differenceOf(project, changed, of, as);
  if (problem !== undefined) return { obstacle: problem };
  const note = boundNote(of, as, kind);
  return {
    files: [
      { path, before: null, after: text },
      { path: of.path, before: file.text, after },
    ],
    ...(note === undefined ? {} : { note }),
  };
}

function differenceOf(before: Project, after: Project, of: Definition, as: string): string | undefined {
  const known = new Set(before.diagnostics.map((d) => d.message));
  const fresh = after.diagnostics.find((d) => d.severity === 'error' && !known.has(d.message));
  if (fresh) return `${fresh.path} would have a problem: ${fresh.message}`;
  const [a, b] = [before.columns.get(of.fullName), after.columns.get(of.fullName)];
  const said = (columns: typeof a) => columns?.map((c) => `${c.name} ${c.type ?? ''}`).join(', ');
  return said(a) === said(b)
    ? undefined
    : `${of.fullName} would have other columns than with ${as}: ${said(b) ?? 'unknown ones'}`;
}

/** An append reads its input past a bound: of a stored step only what is loaded is read. */
const boundNote = (of: Definition, as: string, kind: Lift['kind']): string | undefined =>
  kind === 'table' && optionOf(of, 'watermark') !== undefined
    ? `${of.fullName} reads only what is past its watermark; as a table, ${as} is made from all rows at each load.`
    : undefined;

interface Taken {
  readonly query: string;
  readonly edits: readonly Edit[];
}

class Taking {
  private readonly at: (location: number) => number;

  constructor(
    private readonly text: string,
    private readonly table: Definition,
    private readonly anatomy: Anatomy,
    private readonly as: string,
  ) {
    this.at = byteToCharacter(text);
  }

  /** @returns why it cannot be taken out, or the new query and what changes in the old */
  take(origin: StepOrigin): Taken | string {
    switch (origin.kind) {
      case 'cte':
        return this.cte(origin);
      case 'subquery':
        return this.subquery(origin);
      case 'flow':
        return this.flow(origin);
    }
  }

  private range(span: Span): Range {
    return this.anatomy.clauses.range(span);
  }

  private written(span: Span): string {
    const { start, end } = this.range(span);
    return outdented(this.text.slice(start, end));
  }

  /** A query with the WITH that it needs. */
  private withBefore(query: string, before: StepOrigin['before'], span: Span): string {
    if (before === undefined || before === 'several') return query;
    const names = new Set(this.ctesBefore(before));
    const { words } = this.anatomy.clauses;
    const isNeeded = words.tokens.slice(span.from, span.to).some((t) => names.has(t.text));
    return isNeeded ? `${this.written(before)}\n${query}` : query;
  }

  private ctesBefore({ from, to }: Span): string[] {
    const { words } = this.anatomy.clauses;
    return words.tokens.slice(from, to).flatMap((t, i) => (words.word(from + i + 1) === 'as' ? [t.text] : []));
  }

  private subquery({ brackets, before }: Extract<StepOrigin, { kind: 'subquery' }>): Taken {
    const inside = { from: brackets.from + 1, to: brackets.to - 1 };
    return {
      query: this.withBefore(this.written(inside), before, inside),
      edits: [{ ...this.range(brackets), text: this.as }],
    };
  }

  private cte({ name, text, list, node, before }: Extract<StepOrigin, { kind: 'cte' }>): Taken | string {
    const inside = { from: text.open + 1, to: text.close };
    const body = this.withBefore(this.written(inside), before, inside);
    const columns = strings(node.aliascolnames);
    const query = columns.length
      ? `select *\nfrom (\n${body}\n) as ${plainIdent(name)} (${columns.map(plainIdent).join(', ')})`
      : body;
    const edits: Edit[] = [];
    let declared = 0;
    eachNode({ SelectStmt: this.table.query!.select }, (kind, value) => {
      const { ctename } = value as { ctename?: string };
      if (kind === 'CommonTableExpr' && ctename === name) declared++;
      const range = value as { relname?: string; schemaname?: string; alias?: unknown; location?: number };
      if (kind !== 'RangeVar' || range.relname !== name || range.schemaname !== undefined) return;
      const start = this.at(range.location ?? 0);
      const token = this.anatomy.clauses.words.tokens.find((t) => t.start === start)!;
      edits.push({ start: token.start, end: token.end, text: range.alias ? this.as : `${this.as} as ${token.text}` });
    });
    if (declared !== 1) return `several parts of the query are called ${name}`;
    return {
      query,
      edits: [
        ...edits,
        this.withoutCte(
          list.findIndex((c) => c.name === name),
          list,
        ),
      ],
    };
  }

  /** Takes a common table expression out of its list; the last one takes WITH along. */
  private withoutCte(i: number, list: Extract<StepOrigin, { kind: 'cte' }>['list']): Edit {
    const { words } = this.anatomy.clauses;
    const { named, close } = list[i]!;
    const end = words.tokens[close]!.end;
    const next = list[i + 1];
    if (next) return { start: named.start, end: next.named.start, text: '' };
    const before = list[i - 1];
    if (before) return { start: words.tokens[before.close]!.end, end, text: '' };
    const at = words.tokens.findIndex((t) => t.start === named.start);
    const word = words.tokens[words.word(at - 1) === 'recursive' ? at - 2 : at - 1]!;
    return { start: word.start, end: words.tokens[close + 1]!.start, text: '' };
  }

  /** Rows of FROM and WHERE: columns that the rest of the query uses are those of the new definition. */
  private flow({ span, item, before }: Extract<StepOrigin, { kind: 'flow' }>): Taken | string {
    const { start, end } = this.range(span);
    const { clauses } = this.anatomy;
    const name = this.as.slice(this.as.indexOf('.') + 1);
    const owners = new Map<Field, string>();
    for (const range of item.ranges)
      for (const field of range.fields ?? []) if (!owners.has(field)) owners.set(field, range.name);
    for (const field of item.bare) if (!owners.has(field)) owners.set(field, '');
    const used = new Map<string, { readonly owner: string; readonly column: string; readonly given: string }>();
    const edits: Edit[] = [];
    const unnamed = unnamedColumns(this.table.query!.select);
    for (const { location, parts, value } of this.anatomy.scopes().mentions) {
      const at = this.at(location);
      const field = value as Field;
      // A table that is read twice has the same columns twice: its name tells them apart.
      const isOther = parts.length > 1 && !item.ranges.some((r) => r.name === parts.at(-2));
      if (!owners.has(field) || isOther || (start <= at && at < end)) continue;
      const owner = parts.length > 1 ? parts.at(-2)! : owners.get(field)!;
      const key = `${owner}.${field.name}`;
      const token = clauses.words.tokens.findIndex((t) => t.start === at);
      const last = clauses.words.tokens[token + parts.length * 2 - 2]!;
      const taken = [...used.values()].map((u) => u.given);
      const { given } = used.get(key) ?? { given: this.freeName(field, owner, taken) };
      used.set(key, { owner, column: field.name, given });
      const keeps = unnamed.has(location) && given !== parts.at(-1) ? ` as ${plainIdent(parts.at(-1)!)}` : '';
      edits.push({ start: at, end: last.end, text: `${plainIdent(name)}.${plainIdent(given)}${keeps}` });
    }
    if (used.size === 0) return 'nothing of the query uses its columns by name: write them out instead of *';
    const columns = [...used.values()].map(({ owner, column, given }) => {
      const written = `${owner === '' ? '' : `${plainIdent(owner)}.`}${plainIdent(column)}`;
      return given === column ? written : `${written} as ${plainIdent(given)}`;
    });
    const query = `select ${columns.join(',\n       ')}\nfrom ${this.written(span)}`;
    return {
      query: this.withBefore(query, before, span),
      edits: [...edits, { start, end, text: this.as }],
    };
  }

  /** A column's own name; of several that are called the same, with its table's. */
  private freeName({ name }: Field, owner: string, taken: readonly string[]): string {
    if (!taken.includes(name)) return name;
    for (let n = 1; ; n++) {
      const tried = n === 1 ? `${owner || 'other'}_${name}` : `${owner || 'other'}_${name}_${n}`;
      if (!taken.includes(tried)) return tried;
    }
  }
}

/** Where columns stand that are taken under their own name. */
function unnamedColumns(select: SelectStmt): Set<number> {
  const found = new Set<number>();
  eachNode({ SelectStmt: select }, (kind, value) => {
    const { name, val } = value as { name?: string; val?: Node };
    if (kind === 'ResTarget' && name === undefined && val && 'ColumnRef' in val) found.add(val.ColumnRef.location ?? 0);
  });
  return found;
}

/** A text whose later lines begin where its own first one does. */
function outdented(text: string): string {
  const lines = text.split('\n');
  const indents = lines.slice(1).flatMap((l) => (l.trim() === '' ? [] : [/^ */.exec(l)![0].length]));
  const by = Math.min(...indents, Infinity);
  return [lines[0]!, ...lines.slice(1).map((l) => l.slice(Math.min(by, l.length)))].join('\n');
}
