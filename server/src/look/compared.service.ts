import { Injectable } from '@nestjs/common';
import type {
  BeforeAfter,
  ComparedColumnFigures,
  ComparedColumns,
  ComparedCounts,
  ComparedKind,
  ComparedRows,
  SameTable,
} from '@ouvrage/api/compared';
import { reachable } from '@ouvrage/core/graph';
import { isView } from '@ouvrage/core/language';
import {
  columnFigures,
  type ComparedColumn,
  compareRepeated,
  comparisonShape,
  type ComparisonShape,
  countRepeated,
  countRowKinds,
  frequentChanges,
  type Member,
  renamedTables,
  rowKey,
  type RowsCompared,
  rowsOfKind,
} from '@ouvrage/core/review';
import type pg from 'pg';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService, type Line } from '../project/project.service.js';
import type { Sent } from '../shared/answers.js';
import { notFound, Problem } from '../shared/problem.js';
import { ReaderService } from '../warehouse/reader.service.js';
import type { Standing } from '../warehouse/loaded.js';
import { columnsOf, type ShownRows, shownRows } from '../warehouse/shown-rows.js';
import { isOfStatement } from '../warehouse/sql-error.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { KeptAnswers } from './kept-answers.js';
import { LookService, type Sink } from './look.service.js';
import { PreviewService, type TableSource } from './preview.service.js';
import { rowsVersion } from './rows-version.js';
import { readYielding } from './yields-to-swaps.js';

const SECONDS = 300;
/** Columns whose most frequent changes are counted, and how many of each. */
const FREQUENT_COLUMNS = 8;
const FREQUENT = 3;
const SHOWN_ROWS = 50;

/** A table of a workspace beside production's. */
interface Pair {
  readonly was: string;
  readonly compared: RowsCompared;
  readonly shape: ComparisonShape;
  readonly isSame: boolean;
  readonly leftOut: readonly string[];
  readonly newer: readonly string[];
  /** Tells the rows of both versions, and of what they refer to, from later ones; undefined where that is not known. */
  readonly version: string | undefined;
}

/** Answers about two versions that are kept for whoever asks next. */
const MOST_KEPT = 500;

/** Compares the rows of a workspace's tables with production's, inside the warehouse; the examples alone leave it. What was found is kept until one of them is loaded. */
@Injectable()
export class ComparedService {
  private readonly kept = new KeptAnswers<Pick<ShownRows, 'rows' | 'isFull'>>(MOST_KEPT);

  constructor(
    private readonly projects: ProjectService,
    private readonly previews: PreviewService,
    private readonly reader: ReaderService,
    private readonly looks: LookService,
    private readonly warehouse: WarehouseService,
  ) {}

  async counts(slug: string, table: string, signal: AbortSignal): Promise<Sent<ComparedCounts | SameTable>> {
    return this.reading(slug, table, signal, async (client, pair) => {
      const { was, compared, shape, isSame, leftOut, newer } = pair;
      if (isSame) return { table, isSame };
      const started = performance.now();
      const isUnique = await this.uniqueness(client, pair);
      const sql = countRowKinds(compared, shape, { isUnique });
      const [there, here, onlyThere, onlyHere, equal, different] = await this.row(client, pair, sql);
      const repeated = isUnique ? undefined : await this.row(client, pair, compareRepeated(compared, shape));
      const { added, gone, apart } = shape;
      return {
        table,
        was,
        key: shape.key.map((c) => c.name),
        isSame,
        there: there!,
        here: here!,
        onlyThere: onlyThere!,
        onlyHere: onlyHere!,
        equal: equal!,
        different: different!,
        added,
        gone,
        apart,
        leftOut,
        newer,
        sql,
        repeated: repeated
          ? { keys: repeated[0]!, there: repeated[1]!, here: repeated[2]!, equal: repeated[3]! }
          : null,
        milliseconds: Math.round(performance.now() - started),
      };
    });
  }

  async columns(slug: string, table: string, signal: AbortSignal): Promise<Sent<ComparedColumns>> {
    return this.reading(slug, table, signal, async (client, pair) => {
      const { compared, shape } = pair;
      const started = performance.now();
      const isUnique = await this.uniqueness(client, pair);
      const figures = await this.row(client, pair, columnFigures(compared, shape, { isUnique }));
      const columns = figuresOf(shape, figures).sort((a, b) => Number(b.differ ?? 0) - Number(a.differ ?? 0));
      const of = columns.filter((c) => Number(c.differ) > 0).slice(0, FREQUENT_COLUMNS);
      const changes =
        of.length > 0
          ? (
              await this.found(
                client,
                pair,
                frequentChanges(compared, shape, { isUnique, of: of.map((c) => c.column), most: FREQUENT }),
                FREQUENT * FREQUENT_COLUMNS,
              )
            ).rows
          : [];
      const frequent = (column: string) =>
        changes.flatMap(([name, before, after, rows]) =>
          name === column ? [{ before: before ?? null, after: after ?? null, rows: rows! }] : [],
        );
      return {
        columns: columns.map((c) => ({ ...c, frequent: frequent(c.column) })),
        milliseconds: Math.round(performance.now() - started),
      };
    });
  }

  async rows(
    slug: string,
    table: string,
    { kind, column }: { readonly kind: ComparedKind; readonly column?: string | undefined },
    signal: AbortSignal,
  ): Promise<Sent<ComparedRows>> {
    return this.reading(slug, table, signal, async (client, pair) => {
      const { compared, shape } = pair;
      if (column !== undefined && !shape.shared.some((c) => c.name === column))
        throw notFound(`A compared column ${column}`);
      const started = performance.now();
      const isUnique = await this.uniqueness(client, pair);
      const sql = rowsOfKind(compared, shape, {
        isUnique,
        kind,
        most: SHOWN_ROWS + 1,
        ...(column === undefined ? {} : { column }),
      });
      const { rows, isFull } = await this.found(client, pair, sql, SHOWN_ROWS + 1);
      return {
        kind,
        key: shape.key.map((c) => c.name),
        columns: shape.shared.map((c) => c.name),
        rows: rows.slice(0, SHOWN_ROWS),
        hasMore: isFull || rows.length > SHOWN_ROWS,
        milliseconds: Math.round(performance.now() - started),
      };
    });
  }

  /** All rows of a kind, given to `sink` in batches. */
  async stream(
    slug: string,
    table: string,
    { kind, signal }: { readonly kind: ComparedKind; readonly signal: AbortSignal },
    sink: Sink,
  ): Promise<void> {
    const sql = await this.reading(slug, table, signal, async (client, pair) =>
      rowsOfKind(pair.compared, pair.shape, { isUnique: await this.uniqueness(client, pair), kind }),
    );
    await this.looks.streamRows(sql, signal, sink);
  }

  /** What a question about two versions finds, or found before of the same loads. */
  private found(client: pg.ClientBase, { version }: Pair, sql: string, most: number) {
    return this.kept.of(version, sql, async () => {
      const { rows, isFull } = await shownRows(client, { sql, values: [] }, most);
      return { rows, isFull };
    });
  }

  /** The one row of an answer. */
  private async row(client: pg.ClientBase, pair: Pair, sql: string): Promise<readonly (string | null)[]> {
    return (await this.found(client, pair, sql, 1)).rows[0]!;
  }

  /** Whether no key can be in a version twice, as its unique indexes say, or as counting them shows. */
  private async uniqueness(client: pg.ClientBase, pair: Pair): Promise<boolean> {
    const { compared, shape } = pair;
    if (shape.key.length === 0) return true;
    const names = shape.key.map((c) => c.name);
    const enforced = await Promise.all([compared.there, compared.here].map((s) => isEnforced(client, s.from, names)));
    if (enforced.every(Boolean)) return true;
    return (await this.row(client, pair, countRepeated(compared, shape))).every((n) => n === '0');
  }

  /** @throws Problem where there are no two versions with rows */
  private async reading<T>(
    slug: string,
    table: string,
    signal: AbortSignal,
    body: (client: pg.ClientBase, pair: Pair) => Promise<T>,
  ): Promise<T> {
    const line = await this.projects.line(slug);
    if (!line.workspace)
      throw new Problem(409, 'is-production', 'Production is what workspaces are compared with', 'Choose a workspace.');
    const production = await this.projects.line(PRODUCTION);
    const definition = line.project.tables.get(table);
    if (!definition) throw notFound(`The table ${table}`);
    const was = renamedTables(production.project, line.project).get(table) ?? table;
    if (!production.project.tables.has(was))
      throw new Problem(409, 'new-table', `${table} is new: production has no rows of it`);
    const here = await this.previews.sourceIn(line, table);
    if (here.where === 'nowhere')
      throw new Problem(
        409,
        'not-run',
        `${table} has not been run in this workspace`,
        'Run it, then compare its rows.',
      );
    const there = await this.previews.sourceIn(production, was);
    if (there.where === 'nowhere') throw new Problem(409, 'not-run', `${was} has no rows in production`);
    const key = rowKey(line.project, definition);
    const members = await this.membersOf(line, production, key.members);
    const standings = await this.standingsOf(line, production);
    const newer = newerInputs(line, standings, { table, was });
    const meant = members.map((m) => m.member.table);
    const version = storedVersion([
      { line, tables: [table, ...meant], standings: standings.here },
      { line: production, tables: [was, ...meant], standings: standings.there },
    ]);
    return readYielding(
      { reader: this.reader, warehouse: this.warehouse },
      { signal, seconds: SECONDS },
      async (client) => {
        const side = async (source: TableSource, from: (m: MemberSources) => string) => ({
          from: source.from,
          columns: await comparedColumns(client, source),
          members: new Map(members.map((m) => [m.member.column, from(m)])),
        });
        const compared: RowsCompared = {
          there: await side(there, (m) => m.there),
          here: await side(here, (m) => m.here),
          key: key.columns,
          apart: key.apart,
          members: members.map((m) => m.member),
        };
        const leftOut = [...new Set([...(here.leftOut ?? []), ...(there.leftOut ?? [])])];
        const shape = comparisonShape(compared);
        return body(client, { was, compared, shape, isSame: here.from === there.from, leftOut, newer, version });
      },
    ).catch((error: unknown) => {
      if (!isOfStatement(error)) throw error;
      if (error.code === '57014')
        throw new Problem(504, 'too-slow', `Comparing the rows took longer than ${SECONDS} seconds`);
      throw new Problem(422, 'query-failed', error.message, error.hint);
    });
  }

  /** What is built where, as a workspace and as production see it. */
  private async standingsOf(line: Line, production: Line): Promise<BothStandings> {
    const of = (l: Line) => this.warehouse.standings(l.project, l.environment, this.projects.environmentOf(undefined));
    const [here, there] = await Promise.all([of(line), of(production)]);
    return { here, there };
  }

  /** Tables that columns refer to, where the two versions read different ones and who looks may see what their rows are. */
  private async membersOf(line: Line, production: Line, members: readonly Member[]): Promise<MemberSources[]> {
    const found = await Promise.all(
      members.map(async (member): Promise<MemberSources | undefined> => {
        if (!production.project.tables.has(member.table)) return undefined;
        const [here, there] = [
          await this.previews.sourceIn(line, member.table),
          await this.previews.sourceIn(production, member.table),
        ];
        const hidden = [...(here.leftOut ?? []), ...(there.leftOut ?? [])];
        const isSeen = [member.number, ...member.meaning].every((c) => !hidden.includes(c));
        const isStored = here.where !== 'nowhere' && there.where !== 'nowhere';
        return isSeen && isStored && here.from !== there.from
          ? { member, here: here.from, there: there.from }
          : undefined;
      }),
    );
    return found.filter((m) => m !== undefined);
  }
}

interface BothStandings {
  readonly here: ReadonlyMap<string, Standing>;
  readonly there: ReadonlyMap<string, Standing>;
}

/**
 * Tells the rows of stored tables from later ones, by the loads that made them.
 * @returns undefined where one is a view: its rows may be others at another time of day
 */
function storedVersion(
  of: readonly {
    readonly line: Line;
    readonly tables: readonly string[];
    readonly standings: ReadonlyMap<string, Standing>;
  }[],
): string | undefined {
  const isStored = of.every(({ line, tables }) =>
    tables.every((name) => {
      const table = line.project.tables.get(name);
      return table?.kind !== 'definition' || !isView(table);
    }),
  );
  const versions = of.map(({ line, tables, standings }) => rowsVersion(line.project, tables, standings));
  return isStored && !versions.includes(undefined) ? versions.join('\n\n') : undefined;
}

/** Tables of production that the workspace reads and its version is made of, if one of the versions is older than their last load. */
function newerInputs(
  { project }: Line,
  { here, there }: BothStandings,
  { table, was }: { readonly table: string; readonly was: string },
): readonly string[] {
  const loaded = [here.get(table)?.loaded?.at, there.get(was)?.loaded?.at].flatMap((at) =>
    at ? [Date.parse(at)] : [],
  );
  if (loaded.length < 2) return [];
  const older = Math.min(...loaded);
  return [...reachable(project.needs, [table]).keys()].filter((name) => {
    const standing = here.get(name);
    return name !== table && standing?.where === 'production' && Date.parse(standing.loaded?.at ?? '') > older;
  });
}

interface MemberSources {
  readonly member: Member;
  readonly here: string;
  readonly there: string;
}

/** The columns of a version, with what its table promises of them. */
async function comparedColumns(client: pg.ClientBase, { from, place }: TableSource): Promise<ComparedColumn[]> {
  const columns = await columnsOf(client, { sql: `select * from ${from} as described`, values: [] });
  if (!place) return columns;
  const { rows } = await client.query<{ name: string }>(
    'select attname as name from pg_attribute where attrelid = to_regclass($1) and attnotnull and attnum > 0',
    [from],
  );
  const notNull = new Set(rows.map((r) => r.name));
  return columns.map(({ name, type }) => ({ name, type, isNotNull: notNull.has(name) }));
}

/** Whether a unique index covers some of the columns, none of which may be null. */
async function isEnforced(client: pg.ClientBase, from: string, key: readonly string[]): Promise<boolean> {
  if (from.startsWith('(')) return false;
  const { rows } = await client.query<{ found: boolean | string }>(
    `select exists (
       select from pg_index i where i.indrelid = to_regclass($1) and i.indisunique and i.indisvalid and i.indpred is null and i.indexprs is null
         and not exists (
           select from unnest(i.indkey::int2[]) as k (n) left join pg_attribute a on a.attrelid = i.indrelid and a.attnum = k.n
           where not a.attnotnull or not a.attname = any($2))) as found`,
    [from, key],
  );
  return String(rows[0]!.found).startsWith('t');
}

/** Figures by column, as they stand in the one row that was read. */
function figuresOf(shape: ComparisonShape, figures: readonly (string | null)[]): ComparedColumnFigures[] {
  let at = 0;
  const next = () => figures[at++] ?? null;
  const pair = (): BeforeAfter => ({ before: next(), after: next() });
  return shape.shared.map(({ name, isNumber }) => {
    const differ = next();
    const nulls = pair();
    const numbers = isNumber ? { sum: pair(), mean: pair(), least: pair(), greatest: pair() } : null;
    return { column: name, differ, nulls, numbers, frequent: [] };
  });
}
