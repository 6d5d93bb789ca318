import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { WatchFinding, WatchSeries } from '@ouvrage/api/watch';
import { didYouMean } from '@ouvrage/core/sql';
import {
  chanceOf,
  isJudged,
  judgeTable,
  learn,
  type Looked,
  type Measured,
  scaleOfMeasure,
  type Series,
} from '@ouvrage/core/watch';
import { In, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import type { Sent } from '../shared/answers.js';
import { notFound, Problem } from '../shared/problem.js';
import { type JudgedMeasure, Measurement, WatchLesson } from './watch.entities.js';
import { currentTime } from '../shared/time.js';

/** Of longer pasts the newest are read. */
const MOST_PAST = 400;
const MILLISECONDS_A_DAY = 86_400_000;
/** Measures that are summed by day; of others the last of a day counts. */
const SUMMED = new Set(['added', 'changed', 'removed']);
/** Likelihood at which the range of what is expected next is drawn. */
const DRAWN = 1e-5;

/** What was measured after a load, as it was judged. */
export type Kept = Pick<Measurement, 'table' | 'run' | 'values' | 'judged' | 'finding'>;

/** What is known of one measure of a table. */
interface Past {
  readonly past: readonly Measured[];
  readonly outside: readonly Measured[];
}

/** Measures of production's tables over time: judged by what was learned of them, taught by people. */
@Injectable()
export class WatchService {
  constructor(
    @InjectRepository(Measurement) private readonly measurements: Repository<Measurement>,
    @InjectRepository(WatchLesson) private readonly lessons: Repository<WatchLesson>,
    private readonly people: PeopleService,
    private readonly projects: ProjectService,
  ) {}

  /** Judges what was measured after a load, and keeps it. */
  async keep(
    measured: Pick<Measurement, 'table' | 'run' | 'at' | 'isSampled' | 'values'>,
    looked: Omit<Looked, 'isSampled'>,
  ): Promise<void> {
    const { table, at, values, isSampled } = measured;
    const [before, lessons] = await Promise.all([this.past(table), this.lessonsOf(table)]);
    const day = dayOf(at);
    const series = Object.entries(values)
      .filter(([name]) => isJudged(name))
      .map(([name, value]): Series => {
        const known = pastOf(before, lessons, { measure: name, isSampled, day });
        return {
          name,
          scale: scaleOfMeasure(name),
          ...known,
          now: { day, value: value + (SUMMED.has(name) ? sumOf(before, name, day) : 0) },
          ...chanceOf(name, value, { ...looked, isSampled }),
        };
      });
    const judged = judgeTable(series);
    const isIgnored = (measure: string) =>
      lessons.some((l) => l.kind === 'ignore' && (l.measure ?? measure) === measure && (l.until ?? at) > at);
    const told = judged.series.map(({ name, verdict, expected }): [string, JudgedMeasure] => [
      name,
      { verdict: verdict === 'outside' && isIgnored(name) ? 'ignored' : verdict, ...expected },
    ]);
    const outside = new Map(told.filter(([, j]) => j.verdict === 'outside'));
    const finding =
      judged.finding && outside.has(judged.finding.name) ? judged.finding.name : ([...outside.keys()][0] ?? null);
    const kept = await this.measurements
      .createQueryBuilder()
      .insert()
      .values({ ...measured, judged: Object.fromEntries(told), finding } as never)
      .orIgnore()
      .returning('id')
      .execute();
    if ((kept.raw as unknown[]).length === 0) return;
    for (const follow of this.afterKeep) await follow({ ...measured, judged: Object.fromEntries(told), finding });
  }

  /** What follows a measuring; registered by the modules that know it. */
  readonly afterKeep: ((kept: Kept) => Promise<void>)[] = [];

  /** How many rows are expected of a table, where so many would be told of; undefined where they are usual, or nothing is known yet. */
  async unusualRows(table: string, rows: number): Promise<{ least: number; greatest: number } | undefined> {
    const [before, lessons] = await Promise.all([this.past(table), this.lessonsOf(table)]);
    const now = currentTime();
    if (lessons.some((l) => l.kind === 'ignore' && (l.measure ?? 'rows') === 'rows' && (l.until ?? now) > now))
      return undefined;
    const day = dayOf(now);
    const known = pastOf(before, lessons, { measure: 'rows', isSampled: before.at(-1)?.isSampled ?? false, day });
    const [judged] = judgeTable([
      { name: 'rows', scale: scaleOfMeasure('rows'), ...known, now: { day, value: rows } },
    ]).series;
    if (judged?.verdict !== 'outside' || !judged.expected) return undefined;
    return { least: judged.expected.least, greatest: judged.expected.greatest };
  }

  /** Tables of a release begin anew: what they were before says little of what they are. */
  async restart(tables: readonly string[], person: string): Promise<void> {
    const lesson = { measure: null, kind: 'restart' as const, until: null, person };
    if (tables.length) await this.lessons.insert(tables.map((table) => ({ table, ...lesson })));
  }

  /** A table's measures over time, and what is expected next. */
  async series(table: string): Promise<Sent<WatchSeries>[]> {
    const [found, lessons] = await Promise.all([this.past(table), this.lessonsOf(table)]);
    const newest = found.at(-1);
    if (!newest) return [];
    const now = currentTime();
    const day = dayOf(now);
    const ignoring = (measure: string) =>
      lessons.findLast((l) => l.kind === 'ignore' && (l.measure ?? measure) === measure && l.until && l.until > now);
    return Object.keys(newest.values).map((measure) => {
      const { past } = pastOf(found, lessons, { measure, isSampled: newest.isSampled, day: day + 1 });
      const expected = isJudged(measure) ? learn(past, day, { scale: scaleOfMeasure(measure) }) : undefined;
      return {
        measure,
        isSampled: newest.isSampled,
        points: found.flatMap((m) => {
          const value = m.values[measure];
          const judged = m.judged[measure];
          return value === undefined
            ? []
            : [
                {
                  run: m.run,
                  at: m.at,
                  value,
                  verdict: judged?.verdict ?? 'silent',
                  least: judged?.least ?? null,
                  greatest: judged?.greatest ?? null,
                },
              ];
        }),
        expected: expected ? { ...expected.range(DRAWN), by: expected.by, from: expected.from } : null,
        ignored: ignoredOf(ignoring(measure)),
      };
    });
  }

  /** What is told of now: of the newest load of each table. */
  async findings(): Promise<Sent<WatchFinding>[]> {
    const newest: { id: number }[] = await this.measurements.query(
      'select distinct on (table_name) id from measurement order by table_name, id desc',
    );
    const found = await this.measurements.find({ where: { id: In(newest.map((n) => n.id)) }, order: { table: 'ASC' } });
    return found.flatMap((m) => {
      const judged = m.finding === null ? undefined : m.judged[m.finding];
      if (m.finding === null || judged?.verdict !== 'outside') return [];
      return {
        table: m.table,
        measure: m.finding,
        value: m.values[m.finding]!,
        least: judged.least!,
        greatest: judged.greatest!,
        by: judged.by!,
        from: judged.from!,
        run: m.run,
        at: m.at,
        others: Object.entries(m.judged).flatMap(([name, j]) =>
          name !== m.finding && j.verdict === 'outside' ? [name] : [],
        ),
      };
    });
  }

  /** Measures that are outside in the newest load of their table: `core.fact_dues/rows`. */
  async outside(): Promise<Set<string>> {
    return new Set((await this.findings()).flatMap((f) => [f.measure, ...f.others].map((m) => `${f.table}/${m}`)));
  }

  /**
   * Teaches a watch: that the newest value of a measure is normal from now on, or that nothing is told of it until a day.
   * @throws Problem for a measure that was never taken
   */
  async teach(
    person: Person,
    { table, measure, until }: { readonly table: string; readonly measure: string; readonly until: Date | null },
  ): Promise<void> {
    const { project } = await this.projects.line(PRODUCTION);
    if (!project.tables.has(table)) throw notFound(`The table ${table}`);
    const newest = await this.measurements.findOne({ where: { table }, order: { id: 'DESC' } });
    if (newest?.values[measure] === undefined)
      throw new Problem(
        404,
        'not-found',
        `${table} has no measure ${measure}`,
        didYouMean(measure, Object.keys(newest?.values ?? {})),
      );
    await this.lessons.insert({
      table,
      measure,
      kind: until === null ? 'normal' : 'ignore',
      until,
      person: person.displayName,
    });
    const judged = { ...newest.judged[measure], verdict: until === null ? ('agreed' as const) : ('ignored' as const) };
    const left = { ...newest.judged, [measure]: judged };
    const finding =
      newest.finding === measure
        ? (Object.entries(left).find(([, j]) => j.verdict === 'outside')?.[0] ?? null)
        : newest.finding;
    await this.measurements.update(newest.id, { judged: left as never, finding });
    await this.people.audit(
      person,
      until === null ? 'watch taught a new normal' : 'watch ignored',
      `${table} ${measure}`,
    );
  }

  private async past(table: string): Promise<Measurement[]> {
    return (await this.measurements.find({ where: { table }, order: { id: 'DESC' }, take: MOST_PAST })).reverse();
  }

  private lessonsOf(table: string): Promise<WatchLesson[]> {
    return this.lessons.find({ where: { table }, order: { id: 'ASC' } });
  }
}

const ignoredOf = (lesson: WatchLesson | undefined): Sent<WatchSeries>['ignored'] =>
  lesson?.until ? { until: lesson.until, person: lesson.person } : null;

const dayOf = (at: Date): number => Math.floor(at.getTime() / MILLISECONDS_A_DAY);

/** What other loads of a day did already. */
const sumOf = (all: readonly Measurement[], measure: string, day: number): number =>
  all.reduce((sum, m) => sum + (dayOf(m.at) === day ? (m.values[measure] ?? 0) : 0), 0);

/** A measure's values by day, before a day: those that are learned from, and the newest that were outside. */
function pastOf(
  all: readonly Measurement[],
  lessons: readonly WatchLesson[],
  { measure, isSampled, day }: { readonly measure: string; readonly isSampled: boolean; readonly day: number },
): Past {
  const begins = lessons.filter((l) => l.kind !== 'ignore' && (l.measure ?? measure) === measure).at(-1);
  const byDay = new Map<number, { value: number; isOutside: boolean; isAgreed: boolean }>();
  for (const m of all) {
    const value = m.values[measure];
    // What was sampled and what was counted whole are two series; what was taught as normal begins with its own value.
    if (value === undefined || m.isSampled !== isSampled || dayOf(m.at) >= day) continue;
    if (begins && m.at < begins.at && !(begins.kind === 'normal' && isNewestBefore(all, m, begins.at))) continue;
    const verdict = m.judged[measure]?.verdict;
    const sum = SUMMED.has(measure) ? (byDay.get(dayOf(m.at))?.value ?? 0) : 0;
    byDay.set(dayOf(m.at), {
      value: sum + value,
      isOutside: verdict === 'outside' || verdict === 'ignored',
      isAgreed: verdict === 'agreed',
    });
  }
  let past: Measured[] = [];
  let outside: Measured[] = [];
  for (const [d, { value, isOutside, isAgreed }] of byDay) {
    const point = { day: d, value };
    if (isOutside) outside.push(point);
    else if (isAgreed) [past, outside] = [[...outside.slice(-2), point], []];
    else [past, outside] = [[...past, point], []];
  }
  return { past, outside };
}

const isNewestBefore = (all: readonly Measurement[], m: Measurement, at: Date): boolean =>
  all.filter((other) => other.at < at).at(-1) === m;
