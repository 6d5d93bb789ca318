import { Injectable } from '@nestjs/common';
import type { TodayAnswer } from '@ouvrage/api/release';
import type { SourceTable } from '@ouvrage/core/model';
import { wrongFormerNames } from '@ouvrage/core/review';
import { lineColumn } from '@ouvrage/core/sql';
import { ConnectionService } from '../connection/connection.service.js';
import { mayAct } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { branchOf, MAIN, PRODUCTION } from '../project/branches.js';
import { DraftService } from '../project/draft.service.js';
import { type Line, ProjectService } from '../project/project.service.js';
import { QualityService } from '../quality/quality.service.js';
import { runOut } from '../run/run.controller.js';
import { RunService } from '../run/run.service.js';
import { SourceStateService } from '../source/source-state.service.js';
import { DeliveryListService } from '../delivery/delivery-list.service.js';
import { ImportService } from '../source/import.service.js';
import { IncidentService } from '../incident/incident.service.js';
import { ReviewService } from '../review/review.service.js';
import { ReleaseService } from './release.service.js';

const SHOWN_BUILDS = 21;
const SHOWN_RELEASES = 3;
const SHOWN_WORKSPACES = 12;
/** Runs of a workspace among which the first is looked for that went well. */
const FIRST_RUNS = 100;

/** Gathers what needs a person in an environment. */
@Injectable()
export class TodayService {
  constructor(
    private readonly projects: ProjectService,
    private readonly connections: ConnectionService,
    private readonly drafts: DraftService,
    private readonly quality: QualityService,
    private readonly runs: RunService,
    private readonly releases: ReleaseService,
    private readonly sources: SourceStateService,
    private readonly deliveries: DeliveryListService,
    private readonly imports: ImportService,
    private readonly incidents: IncidentService,
    private readonly reviews: ReviewService,
  ) {}

  async today(slug: string, person: Person) {
    const line = await this.projects.line(slug);
    const { checks, tables } = await this.quality.stateOf(line);
    const recent = await this.runs.list(slug, 20);
    const settled = new Map<string, number>();
    for (const r of recent) if (!settled.has(r.kind)) settled.set(r.kind, r.id);
    const releases = await this.releases.list();
    const builds = await this.runs.wholeBuilds(slug, SHOWN_BUILDS);
    const lastRun = builds[0] ?? recent.find((r) => !['intake', 'check'].includes(r.kind) && r.finishedAt);
    const steps = lastRun ? await this.runs.stepsOf(lastRun.id) : [];
    const sources = [...line.project.tables.values()].filter((t): t is SourceTable => t.kind === 'source');
    const [lateness, states] = await Promise.all([
      this.sources.lateness(PRODUCTION, sources),
      this.sources.of(PRODUCTION),
    ]);
    const failedFiles = await this.deliveries.failed();
    const production = slug === PRODUCTION ? line : await this.projects.line(PRODUCTION);
    const wrongNames = wrongFormerNames(production.project, line.project).map((w) => ({
      ...w,
      message: `${w.message}; ${w.hint}`,
    }));
    const { incidents } = await this.incidents.list();
    return {
      firstSteps: await this.firstSteps(person, { line, production }),
      incidents: incidents.filter((i) => i.state !== 'closed'),
      toBind: mayAct(person.role, 'administrator') ? await this.imports.unbound() : [],
      failedFiles: failedFiles.map(({ file, reason, at }) => ({ file, reason, at })),
      late: [...lateness].flatMap(([table, { late, since, allowed }]) => (late ? [{ table, since, allowed }] : [])),
      drifted: sources.map((t) => t.fullName).filter((name) => states.get(name)?.drift),
      broken: checks.filter((c) => c.verdict === 'broken'),
      advisory: checks.filter((c) => c.verdict === 'advisory'),
      // A failed run needs someone only until a later one of its kind went well.
      failedRuns: recent
        .filter(
          (r) =>
            // Broken checks are told one by one.
            (r.state === 'interrupted' || (r.state === 'failed' && (r.kind !== 'check' || r.error !== null))) &&
            settled.get(r.kind) === r.id,
        )
        .map(runOut),
      drafts: line.drafts.map((d) => ({ path: d.path, by: d.person.displayName, at: d.updatedAt })),
      errors: [...line.project.diagnostics.filter((d) => d.severity === 'error'), ...wrongNames].map((d) => ({
        path: d.path,
        message: d.message,
        ...lineColumn(line.project.files.get(d.path)?.text ?? '', d.range.start),
      })),
      tables: { all: tables.length, notRun: tables.filter((t) => t.where === 'nowhere').length },
      releases: releases
        .slice(0, SHOWN_RELEASES)
        .map(({ id, message, person: by, at, runId }) => ({ id, message, person: by, at, runId })),
      sources: [...lateness]
        .map(([table, { age, seconds, late }]) => ({ table, age, allowed: seconds, late }))
        .sort((a, b) => (b.age ?? Infinity) / b.allowed - (a.age ?? Infinity) / a.allowed),
      reviews: await this.reviews.waitingFor(person),
      yours: await this.yours(person),
      builds: builds.reverse().map((r) => ({
        id: r.id,
        state: r.state,
        at: r.startedAt!,
        milliseconds: r.finishedAt!.getTime() - r.startedAt!.getTime(),
      })),
      lastRun: lastRun
        ? {
            ...runOut(lastRun),
            steps: steps.map((s) => ({
              table: s.table,
              state: s.state,
              rowsIn: s.rowsIn,
              milliseconds: s.startedAt && s.finishedAt ? s.finishedAt.getTime() - s.startedAt.getTime() : null,
            })),
          }
        : null,
    };
  }

  /** Workspaces of a person, with what is not released. */
  /**
   * How far a person has come on the way to the first released table; null once production has one. In production it is
   * looked at their own newest workspace.
   */
  private async firstSteps(
    person: Person,
    { line, production }: { readonly line: Line; readonly production: Line },
  ): Promise<TodayAnswer['firstSteps']> {
    const isDefined = ({ project }: Line) => [...project.tables.values()].some((t) => t.kind === 'definition');
    if (isDefined(production)) return null;
    const own = (await this.projects.list()).filter((w) => w.owner.id === person.id).at(-1);
    const at = line.workspace ? line : own ? await this.projects.line(own.slug) : undefined;
    const runs = at ? await this.runs.list(at.slug, FIRST_RUNS) : [];
    return {
      workspace: at?.slug ?? null,
      connected: (await this.connections.list()).length > 0,
      broughtIn: at !== undefined && [...at.project.tables.values()].some((t) => t.kind === 'source'),
      defined: at !== undefined && isDefined(at),
      run: runs.some((r) => r.kind === 'build' && r.state === 'succeeded'),
    };
  }

  private async yours({ id }: Person): Promise<TodayAnswer['yours']> {
    const own = (await this.projects.list()).filter((w) => w.owner.id === id).slice(-SHOWN_WORKSPACES);
    if (own.length === 0) return [];
    const { git } = this.projects;
    const [drafts, main, branches] = [
      await this.drafts.counts(),
      await git.resolve(MAIN),
      await git.branches('refs/heads/workspace/'),
    ];
    const yours: TodayAnswer['yours'][number][] = [];
    // One after the other: each count is a process, and starting many at once holds everybody up.
    for (const { id: workspace, slug, name } of own) {
      const isAtMain = branches.get(branchOf(slug)) === main;
      const commits = isAtMain ? 0 : (await git.log(branchOf(slug), { notIn: MAIN })).length;
      yours.push({ slug, name, drafts: drafts.get(workspace) ?? 0, commits });
    }
    return yours;
  }
}
