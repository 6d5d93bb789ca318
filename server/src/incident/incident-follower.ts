import { measureWords } from '@ouvrage/core/watch';
import { Injectable, type OnModuleInit } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { IncidentSubject as SubjectOut } from '@ouvrage/api/incident';
import { type ChangedCheck, changedChecks, type Check, checkDigests, tableOfCheck } from '@ouvrage/core/check';
import { reachable } from '@ouvrage/core/graph';
import type { Project } from '@ouvrage/core/model';
import { type EntityManager, IsNull, Not, Repository } from 'typeorm';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { CheckResult, Release, Run, RunStep } from '../run/run.entities.js';
import { RunQueue } from '../run/run-queue.js';
import { RunService } from '../run/run.service.js';
import { Incident, IncidentSubject } from './incident.entities.js';
import { type Kept, WatchService } from '../watch/watch.service.js';
import { withoutValue } from '../warehouse/sql-error.js';
import { IncidentService, openOne, REOPENING_DAYS, ruleOf, type Told } from './incident.service.js';

/** Something that an incident may be about, as a run found it. */
interface Finding {
  readonly subject: SubjectOut;
  readonly isFailing: boolean;
  /** A check that does not hold and stops nothing opens no incident by itself. */
  readonly opens: boolean;
  /** Whether people are told of it where it is no incident's. */
  readonly isTold: boolean;
  readonly kind: 'verdict' | 'load';
  readonly told: Told;
}

/**
 * What runs in production mean for incidents: what fails again is added to the one that is open, or opens it again, or
 * opens a new one where a rule says so; what holds again is recorded. Each run is followed once, in one transaction,
 * also when the process that worked on it was killed.
 */
@Injectable()
export class IncidentFollower implements OnModuleInit {
  constructor(
    @InjectRepository(Run) private readonly runs: Repository<Run>,
    private readonly incidents: IncidentService,
    private readonly projects: ProjectService,
    private readonly work: RunService,
    private readonly queue: RunQueue,
    private readonly watches: WatchService,
  ) {}

  onModuleInit(): void {
    this.work.afterRun.push((id) => this.follow(id));
    this.queue.settlers.push(() => this.catchUp());
    this.watches.afterKeep.push((kept) => this.measured(kept));
  }

  /** What was measured is added to incidents about it. */
  private async measured({ table, run, values, judged, finding }: Kept): Promise<void> {
    await this.runs.manager.transaction(async (manager) => {
      for (const [measure, { verdict }] of Object.entries(judged)) {
        if (verdict === 'silent') continue;
        const isFailing = verdict === 'outside';
        await this.found(manager, run, {
          subject: { kind: 'measure', subject: `${table}/${measure}`, table },
          isFailing,
          opens: false,
          isTold: measure === finding,
          kind: 'verdict',
          told: {
            verdict: isFailing ? 'advisory' : 'holds',
            subject: `${table}/${measure}`,
            text: measureWords(measure, values[measure]!),
          },
        });
      }
    });
  }

  /** Follows runs that ended while nobody could. */
  private async catchUp(): Promise<void> {
    const left = await this.runs.find({
      where: { followed: false, finishedAt: Not(IsNull()) },
      select: { id: true },
      order: { id: 'ASC' },
    });
    for (const { id } of left) await this.follow(id);
  }

  async follow(id: number): Promise<void> {
    await this.runs.manager.transaction(async (manager) => {
      const [taken] = await manager.query<[unknown[], number]>(
        'update run set followed = true where id = $1 and not followed and finished_at is not null returning id',
        [id],
      );
      if (taken.length === 0) return;
      const run = await manager.findOneByOrFail(Run, { id });
      if (run.environment !== PRODUCTION || (run.kind === 'release' && run.state !== 'succeeded')) return;
      const { project } = await this.projects.line(PRODUCTION);
      if (run.kind === 'release') await this.released(manager, run, project);
      for (const finding of await this.findings(manager, run)) await this.found(manager, run.id, finding, project);
    });
  }

  private async findings(manager: EntityManager, run: Run): Promise<Finding[]> {
    const steps = await manager.find(RunStep, { where: { run: { id: run.id } }, order: { position: 'ASC' } });
    const results = await manager.find(CheckResult, {
      where: { step: { run: { id: run.id } } },
      relations: { step: true },
      select: { id: true, checkId: true, table: true, verdict: true, atFault: true, total: true, step: { id: true } },
      order: { id: 'ASC' },
    });
    const brokenSteps = new Set(results.filter((r) => r.verdict === 'broken').map((r) => r.step.id));
    const checks = results.map(({ checkId, table, verdict, atFault, total }): Finding => ({
      subject: { kind: 'check', subject: checkId, table },
      isFailing: verdict !== 'holds',
      opens: verdict === 'broken',
      isTold: verdict === 'broken',
      kind: 'verdict',
      told: { verdict, atFault, total, subject: checkId },
    }));
    const loads = steps.flatMap((s): Finding[] => {
      if (s.kind === 'check' || !['done', 'failed'].includes(s.state)) return [];
      const isFailing = s.state === 'failed';
      // A load that a check stopped is the check's matter.
      if (isFailing && brokenSteps.has(s.id)) return [];
      const told = {
        verdict: isFailing ? 'broken' : 'holds',
        subject: s.table,
        text: s.error ? withoutValue(s.error.message) : null,
      } as const;
      const found = (kind: 'load' | 'source'): Finding => ({
        subject: { kind, subject: s.table, table: s.table },
        isFailing,
        opens: isFailing && kind === 'load',
        isTold: isFailing && kind === 'load',
        kind: 'load',
        told,
      });
      return s.kind === 'intake' ? [found('load'), found('source')] : [found('load')];
    });
    return [...checks, ...loads];
  }

  /** @param project for rules; without it nothing is opened */
  private async found(manager: EntityManager, run: number, finding: Finding, project?: Project): Promise<void> {
    const { subject, told } = finding;
    const open = await openOne(manager, subject);
    if (open) return this.incidents.record(manager, open.id, finding.kind, { ...told, run });
    if (!finding.isFailing) return;
    const recent = await this.closedRecently(manager, subject);
    if (recent) {
      await this.incidents.again(manager, recent, { text: 'failed again', run });
      return this.incidents.record(manager, recent.id, finding.kind, { ...told, run });
    }
    if (!project || !finding.opens || !ruleOf(project, subject).opens) {
      if (finding.isTold)
        for (const tell of this.incidents.afterFailure)
          await tell(manager, { subject, atFault: told.atFault ?? null, text: told.text ?? null });
      return;
    }
    const made = await this.incidents.make(manager, project, subject, { openedBy: null });
    await this.incidents.record(manager, made.id, finding.kind, { ...told, run });
  }

  private async closedRecently(manager: EntityManager, { kind, subject }: SubjectOut): Promise<Incident | undefined> {
    const found = await manager
      .createQueryBuilder(IncidentSubject, 's')
      .innerJoinAndSelect('s.incident', 'i')
      .leftJoinAndSelect('i.subjects', 'all')
      .where('s.kind = :kind and s.subject = :subject', { kind, subject })
      .andWhere(`i.state = 'closed' and i.closed_at > clock_now() - make_interval(days => :days)`, {
        days: REOPENING_DAYS,
      })
      .orderBy('i.closed_at', 'DESC')
      .getOne();
    // What was closed though it does not hold was closed knowingly.
    return found && found.incident.closedThough === null ? found.incident : undefined;
  }

  /** Checks that have another name are followed, those that are gone are closed, and a release upstream is recorded. */
  private async released(manager: EntityManager, run: Run, project: Project): Promise<void> {
    const release = await manager.findOneBy(Release, { runId: run.id });
    if (!release) return;
    const before = release.commitBefore === null ? undefined : await this.projects.projectAt(release.commitBefore);
    const changed = before ? changedChecks(before, project) : [];
    if (before) await this.renamed(manager, changed, { before, after: project });
    const otherwise = new Set(changed.map((c) => c.check.id));
    const checks = checkDigests(project);
    const open = await manager.find(Incident, { where: { state: Not('closed') }, relations: { subjects: true } });
    for (const incident of open) {
      const upstream = reachable(
        project.needs,
        incident.subjects.map((s) => s.table),
      );
      if (release.tables.some((t) => upstream.has(t)) || incident.subjects.some((s) => otherwise.has(s.subject)))
        await this.incidents.record(manager, incident.id, 'release', {
          person: release.person,
          text: `release ${release.id}: ${release.message.split('\n')[0]}`,
          run: run.id,
        });
      const gone = incident.subjects.filter((s) =>
        s.kind === 'check' ? !checks.has(s.subject) : !project.tables.has(s.table),
      );
      if (gone.length < incident.subjects.length || gone.length === 0) continue;
      const text = `release ${release.id} removed ${gone.map((s) => s.subject).join(', ')}`;
      await this.incidents.end(manager, incident.id, { learned: text, closedThough: null });
      await this.incidents.record(manager, incident.id, 'gone', { text, run: run.id });
    }
  }

  private async renamed(
    manager: EntityManager,
    changes: readonly ChangedCheck[],
    { before, after }: { readonly before: Project; readonly after: Project },
  ): Promise<void> {
    const [old, now] = [checkDigests(before), checkDigests(after)];
    const key = (check: Check, digests: ReadonlyMap<string, string>) =>
      `${tableOfCheck(check)} ${digests.get(check.id) ?? ''}`;
    const made = new Map(
      changes.flatMap(({ change, check }) => (change === 'new' ? [[key(check, now), check.id] as const] : [])),
    );
    for (const { change, check } of changes) {
      const name = change === 'deleted' ? made.get(key(check, old)) : undefined;
      if (name !== undefined)
        await manager.update(IncidentSubject, { kind: 'check', subject: check.id, isOpen: true }, { subject: name });
    }
  }
}
