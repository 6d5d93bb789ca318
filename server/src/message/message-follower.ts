import { Injectable, type OnModuleDestroy, type OnModuleInit } from '@nestjs/common';
import { InjectDataSource } from '@nestjs/typeorm';
import type { IncidentSubject } from '@ouvrage/api/incident';
import type { SourceTable, Project } from '@ouvrage/core/model';
import { DataSource, type EntityManager } from 'typeorm';
import { Incident, IncidentSubject as SubjectRow } from '../incident/incident.entities.js';
import { type Failing, firstFailure, IncidentService, ruleOf, titleOf } from '../incident/incident.service.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { logger } from '../shared/problem.js';
import { SourceStateService } from '../source/source-state.service.js';
import { MessageService } from './message.service.js';
import { ownersAround } from './recipients.js';
import { currentTime } from '../shared/time.js';

/** How often is looked for sources that are late: nothing happens when they become so. */
const LOOK_MS = 60_000;

const minute = (at: Date): string => `${at.toISOString().slice(0, 16).replace('T', ' ')} UTC`;

/** Tells of what happens in production: incidents, failures without one, sources that are late, unusual measures. */
@Injectable()
export class MessageFollower implements OnModuleInit, OnModuleDestroy {
  private timer: NodeJS.Timeout | undefined;
  private looking: Promise<void> = Promise.resolve();

  constructor(
    @InjectDataSource() private readonly source: DataSource,
    private readonly messages: MessageService,
    private readonly incidents: IncidentService,
    private readonly projects: ProjectService,
    private readonly sources: SourceStateService,
  ) {}

  onModuleInit(): void {
    this.incidents.afterChange.push((manager, id, what) => this.incident(manager, id, what));
    this.incidents.afterFailure.push((manager, failing) => this.failure(manager, failing));
    this.timer = setInterval(() => {
      this.looking = this.lateSources().catch((error: unknown) => logger.warn(error));
    }, LOOK_MS);
    this.timer.unref();
  }

  async onModuleDestroy(): Promise<void> {
    clearInterval(this.timer);
    await this.looking;
  }

  private async project(): Promise<Project> {
    return (await this.projects.line(PRODUCTION)).project;
  }

  /** One message an incident, another one when it is opened again or closed. */
  private async incident(
    manager: EntityManager,
    id: number,
    {
      event,
      text,
      by,
    }: { readonly event: 'opened' | 'reopened' | 'closed'; readonly text?: string; readonly by: string | null },
  ): Promise<void> {
    const incident = await manager.findOneByOrFail(Incident, { id });
    const subjects = await manager.find(SubjectRow, { where: { incident: { id } } });
    const project = await this.project();
    const tables = [...new Set(subjects.map((s) => s.table))];
    await this.messages.tell(manager, project, {
      key: `incident:${id}:${event}:${incident.reopened}`,
      kind: 'incident',
      severity: incident.severity,
      title: `Incident ${id} ${event}: ${incident.title}`,
      lines: [
        ...(event === 'closed' ? [] : [`Failing since ${minute(incident.since)}.`]),
        ...(event === 'opened' ? await amount(manager, subjects) : []),
        ...(by === null ? [] : [`${event[0]!.toUpperCase()}${event.slice(1)} by ${by}.`]),
        ...(text ? [event === 'closed' ? `Learned: ${text}` : text] : []),
        affected(project, tables),
      ],
      path: `/w/${PRODUCTION}/incidents/${id}`,
      tables,
    });
  }

  /** What fails without an incident is told once, until it holds again. */
  private async failure(manager: EntityManager, { subject, atFault, text }: Failing): Promise<void> {
    const project = await this.project();
    const since = (await firstFailure(manager, subject)) ?? currentTime();
    const isMeasure = subject.kind === 'measure';
    // A table has one finding a day.
    const key = isMeasure
      ? `unusual:${subject.table}:${currentTime().toISOString().slice(0, 10)}`
      : `failing:${subject.kind}:${subject.subject}:${since.toISOString()}`;
    await this.messages.tell(manager, project, {
      key,
      kind: isMeasure ? 'unusual' : 'failure',
      severity: ruleOf(project, subject).severity,
      title: `${titleOf(project, subject)}${subject.kind === 'check' ? ' does not hold' : ''}`,
      lines: [
        `Since ${minute(since)}.`,
        ...(atFault ? [`${Number(atFault).toLocaleString('en')} ${atFault === '1' ? 'row' : 'rows'} at fault.`] : []),
        ...(text ? [isMeasure ? `The value is ${text}.` : text] : []),
        affected(project, [subject.table]),
      ],
      path: isMeasure
        ? `/w/${PRODUCTION}/quality?table=${subject.table}`
        : subject.kind === 'check'
          ? `/w/${PRODUCTION}/quality/${subject.subject}`
          : `/w/${PRODUCTION}/tables/${subject.table}/past`,
      tables: [subject.table],
    });
  }

  /** Sources that are late now are told of once, until newer rows come. */
  async lateSources(): Promise<void> {
    const project = await this.project();
    const all = [...project.tables.values()].filter((t): t is SourceTable => t.kind === 'source');
    for (const [table, { late, since, allowed, learnedFrom }] of await this.sources.lateness(PRODUCTION, all)) {
      if (!late) continue;
      await this.source.transaction((manager) =>
        this.messages.tell(manager, project, {
          key: `late:${table}:${since ?? 'never'}`,
          kind: 'late',
          severity: ruleOf(project, { kind: 'source', subject: table, table }).severity,
          title: `${table} is late`,
          lines: [
            since
              ? `Its newest row is of ${minute(new Date(since))}; ${learnedFrom === null ? `${allowed} are allowed` : `usually it is at most ${allowed} old`}.`
              : 'It was never brought in.',
            affected(project, [table]),
          ],
          path: `/w/${PRODUCTION}/sources`,
          tables: [table],
        }),
      );
    }
  }
}

/** How many rows were last at fault. */
async function amount(manager: EntityManager, subjects: readonly IncidentSubject[]): Promise<string[]> {
  const check = subjects.find((s) => s.kind === 'check');
  if (!check) return [];
  const [found] = await manager.query<{ n: string }[]>(
    `select at_fault as n from check_result where environment = $1 and check_id = $2 and verdict <> 'holds' order by id desc limit 1`,
    [PRODUCTION, check.subject],
  );
  return found ? [`${Number(found.n).toLocaleString('en')} ${found.n === '1' ? 'row' : 'rows'} at fault.`] : [];
}

/** Whom it concerns. */
function affected(project: Project, tables: readonly string[]): string {
  const owners = ownersAround(project, tables);
  return owners.length ? `It concerns ${owners.join(', ')}.` : 'Nobody is named as the owner of what it concerns.';
}
