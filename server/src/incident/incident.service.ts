import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { IncidentEntry, IncidentList, IncidentSubject as SubjectOut, PersonName } from '@ouvrage/api/incident';
import { checkRule, checksOf, checkTitle, loadRule, tableOfCheck } from '@ouvrage/core/check';
import type { Severity } from '@ouvrage/core/language';
import type { Project } from '@ouvrage/core/model';
import { didYouMean } from '@ouvrage/core/sql';
import { type EntityManager, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { QualityService } from '../quality/quality.service.js';
import { SourceStateService } from '../source/source-state.service.js';
import type { Sent } from '../shared/answers.js';
import { WatchService } from '../watch/watch.service.js';
import { notFound, Problem } from '../shared/problem.js';
import { Incident, IncidentEvent, IncidentSubject } from './incident.entities.js';
import { currentTime } from '../shared/time.js';

/** Within this time, what fails again is the same incident. */
export const REOPENING_DAYS = 14;
const MOST = 1000;

type Subject = Pick<SubjectOut, 'kind' | 'subject'>;

/** What is told of an event, apart from its incident and time. */
export type Told = Partial<Omit<IncidentEvent, 'id' | 'at' | 'incident' | 'kind'>>;

/** What happens to an incident that people are told of. */
export interface IncidentChange {
  readonly event: 'opened' | 'reopened' | 'closed';
  readonly by: string | null;
  readonly text?: string;
}

/** Something that fails in production. */
export interface Failing {
  readonly subject: SubjectOut;
  readonly atFault?: string | null;
  readonly text?: string | null;
}

export interface OpeningAsked extends Subject {
  readonly title?: string | undefined;
  readonly severity?: Severity | undefined;
  readonly description?: string | undefined;
}

export interface ChangeAsked {
  readonly title?: string | undefined;
  readonly severity?: Severity | undefined;
  readonly description?: string | undefined;
  /** The name that the person signs in with; null for nobody. */
  readonly lead?: string | null | undefined;
}

/** Incidents of production: opened, followed, closed with what was learned, by people or by what happens. */
@Injectable()
export class IncidentService {
  constructor(
    @InjectRepository(Incident) private readonly incidents: Repository<Incident>,
    private readonly people: PeopleService,
    private readonly projects: ProjectService,
    private readonly quality: QualityService,
    private readonly sources: SourceStateService,
    private readonly watches: WatchService,
  ) {}

  /** What follows an incident that is opened, opened again or closed, in its transaction. */
  readonly afterChange: ((manager: EntityManager, id: number, what: IncidentChange) => Promise<void>)[] = [];
  /** What follows a failure that is no incident's, in the transaction that follows the run. */
  readonly afterFailure: ((manager: EntityManager, failing: Failing) => Promise<void>)[] = [];

  private async changed(manager: EntityManager, id: number, what: IncidentChange): Promise<void> {
    for (const follow of this.afterChange) await follow(manager, id, what);
  }

  /** Open ones first, then the newest. */
  async list(): Promise<Sent<IncidentList>> {
    const [found, people] = await Promise.all([
      this.incidents.find({ relations: { subjects: true }, order: { id: 'DESC' }, take: MOST }),
      this.names(),
    ]);
    const ordered = [...found.filter((i) => i.state !== 'closed'), ...found.filter((i) => i.state === 'closed')];
    return { incidents: ordered.map((i) => entryOf(i, people)), people };
  }

  /** People who may follow an incident, by the names that they sign in with. */
  async names(): Promise<PersonName[]> {
    return (await this.people.acting('editor')).map(({ name, displayName }) => ({ name, displayName }));
  }

  async get(id: number, manager: EntityManager = this.incidents.manager): Promise<Incident> {
    const found = await manager.findOne(Incident, { where: { id }, relations: { subjects: true } });
    if (!found) throw notFound(`Incident ${id}`);
    return found;
  }

  /** Opened by a person. @throws Problem for what does not exist, or is in an open incident already */
  async open(person: Person, asked: OpeningAsked): Promise<Incident> {
    const { project } = await this.projects.line(PRODUCTION);
    const subject = subjectOf(project, asked);
    return this.incidents.manager.transaction(async (manager) => {
      const already = await openOne(manager, subject);
      if (already)
        throw new Problem(409, 'already-open', `Incident ${already.id} is about this already`, 'Add a remark there.', {
          incident: already.id,
        });
      const incident = await this.make(manager, project, subject, { ...asked, openedBy: person.displayName });
      await this.people.audit(person, 'incident opened', String(incident.id), { subject: asked.subject, manager });
      return incident;
    });
  }

  /** A new incident, open, with the first failure that is kept. */
  async make(
    manager: EntityManager,
    project: Project,
    subject: SubjectOut,
    said: Omit<OpeningAsked, keyof Subject> & { readonly openedBy: string | null; readonly at?: Date },
  ): Promise<Incident> {
    const rule = ruleOf(project, subject);
    const incident = await manager.save(
      manager.create(Incident, {
        title: said.title?.trim() || titleOf(project, subject),
        description: said.description ?? '',
        state: 'open',
        severity: said.severity ?? rule.severity,
        lead: null,
        openedBy: said.openedBy,
        since: said.at ?? (await firstFailure(manager, subject)) ?? currentTime(),
        closedAt: null,
        learned: null,
        closedThough: null,
      }),
    );
    await manager.insert(IncidentSubject, { ...subject, isOpen: true, incident: { id: incident.id } });
    await this.record(manager, incident.id, 'opened', { person: said.openedBy, subject: subject.subject });
    await this.changed(manager, incident.id, { event: 'opened', by: said.openedBy });
    return incident;
  }

  async record(manager: EntityManager, id: number, kind: IncidentEvent['kind'], told: Told = {}): Promise<void> {
    await manager.insert(IncidentEvent, { kind, ...told, incident: { id } });
  }

  /** The person takes an incident in hand. */
  take(person: Person, id: number): Promise<Incident> {
    return this.changing(id, async (incident, manager) => {
      refuseClosed(incident);
      await manager.update(Incident, id, { lead: person.name, state: 'in hand' });
      await this.record(manager, id, 'taken', { person: person.displayName });
    });
  }

  /** Another title, severity, description or lead; what changed is recorded. */
  change(person: Person, id: number, asked: ChangeAsked): Promise<Incident> {
    return this.changing(id, async (incident, manager) => {
      const people = await this.names();
      const named = asked.lead ?? undefined;
      const lead = people.find((p) => p.name === named);
      if (named !== undefined && !lead)
        throw new Problem(
          422,
          'no-such-person',
          `${named} is nobody who can lead an incident`,
          didYouMean(
            named,
            people.map((p) => p.name),
          ) ?? 'Name an editor, a releaser or an administrator.',
        );
      if (named !== undefined) refuseClosed(incident);
      const told = [
        ...(asked.title && asked.title !== incident.title ? [`title: ${asked.title}`] : []),
        ...(asked.severity && asked.severity !== incident.severity
          ? [`severity ${asked.severity}, was ${incident.severity}`]
          : []),
        ...(asked.description !== undefined && asked.description !== incident.description ? ['description'] : []),
        ...(asked.lead !== undefined && asked.lead !== incident.lead ? [`lead ${lead?.displayName ?? 'nobody'}`] : []),
      ];
      if (told.length === 0) return;
      await manager.update(Incident, id, {
        ...(asked.title ? { title: asked.title } : {}),
        ...(asked.severity ? { severity: asked.severity } : {}),
        ...(asked.description === undefined ? {} : { description: asked.description }),
        ...(asked.lead === undefined ? {} : { lead: asked.lead, state: asked.lead === null ? 'open' : 'in hand' }),
      });
      await this.record(manager, id, 'changed', { person: person.displayName, text: told.join('; ') });
    });
  }

  remark(person: Person, id: number, text: string): Promise<Incident> {
    return this.changing(id, async (_, manager) =>
      this.record(manager, id, 'remark', { person: person.displayName, text }),
    );
  }

  /**
   * Closed with what was learned.
   * @param though why, where something does not hold
   * @throws Problem that names what does not hold, where no reason is given
   */
  async close(
    person: Person,
    id: number,
    { learned, though }: { readonly learned: string; readonly though?: string | undefined },
  ): Promise<Incident> {
    const failing = (await this.standing((await this.get(id)).subjects)).filter((s) => s.verdict !== 'holds');
    if (failing.length > 0 && !though?.trim())
      throw new Problem(
        409,
        'does-not-hold',
        `${failing[0]!.title} does not hold yet`,
        'Run the check again once it is fixed, or say why the incident is closed all the same.',
        { failing: failing.map((f) => f.subject) },
      );
    return this.changing(id, async (incident, manager) => {
      refuseClosed(incident);
      await this.end(manager, id, {
        learned,
        closedThough: failing.length > 0 ? though!.trim() : null,
        by: person.displayName,
      });
      await this.record(manager, id, 'closed', { person: person.displayName, text: learned });
      await this.people.audit(person, 'incident closed', String(id), { manager });
    });
  }

  /** Closes an incident, and frees what it was about for others. */
  async end(
    manager: EntityManager,
    id: number,
    { by = null, ...said }: Pick<Incident, 'learned' | 'closedThough'> & { readonly by?: string | null },
  ): Promise<void> {
    await manager.update(Incident, id, { ...said, state: 'closed', closedAt: currentTime() });
    await manager.update(IncidentSubject, { incident: { id } }, { isOpen: false });
    await this.changed(manager, id, { event: 'closed', by, ...(said.learned ? { text: said.learned } : {}) });
  }

  reopen(person: Person, id: number, text: string): Promise<Incident> {
    return this.changing(id, async (incident, manager) => {
      if (incident.state !== 'closed') throw new Problem(409, 'not-closed', `Incident ${id} is not closed`);
      for (const subject of incident.subjects) {
        const other = await openOne(manager, subject);
        if (other)
          throw new Problem(409, 'already-open', `Incident ${other.id} is about this already`, 'Go on there.', {
            incident: other.id,
          });
      }
      await this.again(manager, incident, { person: person.displayName, text });
    });
  }

  /** A closed incident is open again. */
  async again(manager: EntityManager, incident: Incident, told: Told): Promise<void> {
    await manager.update(Incident, incident.id, {
      state: incident.lead === null ? 'open' : 'in hand',
      closedAt: null,
      closedThough: null,
      reopened: incident.reopened + 1,
    });
    await manager.update(IncidentSubject, { incident: { id: incident.id } }, { isOpen: true });
    await this.record(manager, incident.id, 'reopened', told);
    const { person = null, text } = told;
    await this.changed(manager, incident.id, { event: 'reopened', by: person, ...(text ? { text } : {}) });
  }

  /** What an incident is about goes on in another one; this one is closed. @returns the other one */
  merge(person: Person, id: number, into: number): Promise<Incident> {
    return this.changing(into, async (target, manager) => {
      const incident = await this.get(id, manager);
      if (id === into) throw new Problem(422, 'same-incident', 'An incident cannot be merged with itself');
      refuseClosed(incident);
      refuseClosed(target);
      await manager.update(IncidentSubject, { incident: { id } }, { incident: { id: into } });
      await manager.update(Incident, id, {
        state: 'closed',
        closedAt: currentTime(),
        learned: `Merged into incident ${into}.`,
      });
      const told = { person: person.displayName };
      await this.record(manager, id, 'merged', { ...told, text: `into incident ${into}` });
      await this.record(manager, into, 'merged', { ...told, text: `with incident ${id}: ${incident.title}` });
    });
  }

  /** One of several things that an incident is about becomes an incident of its own. @returns the new one */
  async split(person: Person, id: number, asked: Subject): Promise<Incident> {
    const { project } = await this.projects.line(PRODUCTION);
    return this.incidents.manager.transaction(async (manager) => {
      const incident = await this.get(id, manager);
      refuseClosed(incident);
      const subject = incident.subjects.find((s) => s.kind === asked.kind && s.subject === asked.subject);
      if (!subject || incident.subjects.length < 2)
        throw new Problem(
          422,
          'nothing-to-split',
          subject ? `Incident ${id} is about nothing else` : `Incident ${id} is not about ${asked.subject}`,
        );
      await manager.delete(IncidentSubject, subject.id);
      const { kind, subject: name, table } = subject;
      const made = await this.make(
        manager,
        project,
        { kind, subject: name, table },
        { openedBy: person.displayName, severity: incident.severity },
      );
      await this.record(manager, id, 'split', {
        person: person.displayName,
        text: `incident ${made.id}`,
        subject: name,
      });
      return made;
    });
  }

  /** How what an incident is about is now. */
  async standing(
    subjects: readonly SubjectOut[],
  ): Promise<{ subject: string; title: string; verdict: 'broken' | 'advisory' | 'holds' | 'not run' }[]> {
    const line = await this.projects.line(PRODUCTION);
    const { project } = line;
    const { checks } = await this.quality.stateOf(line);
    const late = await this.lateness(project, subjects);
    const outside = subjects.some((s) => s.kind === 'measure') ? await this.watches.outside() : new Set<string>();
    return Promise.all(
      subjects.map(async (s) => {
        const title = titleOf(project, s);
        switch (s.kind) {
          case 'check': {
            const check = checks.find((c) => c.id === s.subject);
            return { subject: s.subject, title, verdict: check?.verdict ?? 'holds' };
          }
          case 'load': {
            const [last] = await this.quality.loads(PRODUCTION, s.table);
            return { subject: s.subject, title, verdict: last?.state === 'done' ? 'holds' : 'broken' };
          }
          case 'source':
            return { subject: s.subject, title, verdict: late.has(s.table) ? 'broken' : 'holds' };
          case 'measure':
            return { subject: s.subject, title, verdict: outside.has(s.subject) ? 'advisory' : 'holds' };
        }
      }),
    );
  }

  private async lateness(project: Project, subjects: readonly SubjectOut[]): Promise<Set<string>> {
    const tables = subjects.flatMap((s) => {
      const table = s.kind === 'source' ? project.tables.get(s.table) : undefined;
      return table?.kind === 'source' ? [table] : [];
    });
    const found = tables.length ? await this.sources.lateness(PRODUCTION, tables) : new Map<string, never>();
    return new Set([...found].flatMap(([table, { late }]) => (late ? [table] : [])));
  }

  /** Changes an incident in a transaction that holds it. @returns it as it is then */
  private changing(id: number, body: (incident: Incident, manager: EntityManager) => Promise<void>): Promise<Incident> {
    return this.incidents.manager.transaction(async (manager) => {
      await manager.query('select from incident where id = $1 for update', [id]);
      await body(await this.get(id, manager), manager);
      return this.get(id, manager);
    });
  }
}

function refuseClosed({ id, state }: Incident): void {
  if (state === 'closed') throw new Problem(409, 'closed', `Incident ${id} is closed`, 'Reopen it first.');
}

/** The open incident about something, held until the transaction ends. */
export const openOne = async (manager: EntityManager, { kind, subject }: Subject): Promise<Incident | undefined> => {
  const found = await manager.findOne(IncidentSubject, {
    where: { kind, subject, isOpen: true },
    relations: { incident: { subjects: true } },
  });
  return found?.incident;
};

/** @throws Problem for a check or a table that production does not have */
function subjectOf(project: Project, { kind, subject }: Subject): SubjectOut {
  if (kind === 'check') {
    const checks = checksOf(project);
    const check = checks.find((c) => c.id === subject);
    if (!check)
      throw new Problem(
        404,
        'not-found',
        `There is no check ${subject} in production`,
        didYouMean(
          subject,
          checks.map((c) => c.id),
        ),
      );
    return { kind, subject, table: tableOfCheck(check) };
  }
  if (kind === 'measure') {
    const table = subject.split('/')[0]!;
    if (subject.includes('/') && project.tables.has(table)) return { kind, subject, table };
    throw new Problem(404, 'not-found', `There is no measure ${subject} in production`, 'Name it table/measure.');
  }
  const table = project.tables.get(subject);
  if (!table || (kind === 'source') !== (table.kind === 'source'))
    throw new Problem(
      404,
      'not-found',
      `There is no ${kind === 'source' ? 'source table' : 'table'} ${subject} in production`,
      didYouMean(subject, project.tables.keys()),
    );
  return { kind, subject, table: subject };
}

export function titleOf(project: Project, { kind, subject, table }: SubjectOut): string {
  switch (kind) {
    case 'check': {
      const check = checksOf(project).find((c) => c.id === subject);
      return check ? `${table}: ${checkTitle(check)}` : subject;
    }
    case 'load':
      return `${table} is not loaded`;
    case 'source':
      return `${table} is late`;
    case 'measure':
      return `${table}: ${subject.slice(table.length + 1)} not as expected`;
  }
}

export function ruleOf(project: Project, { kind, subject, table }: SubjectOut) {
  const check = kind === 'check' ? checksOf(project).find((c) => c.id === subject) : undefined;
  return check ? checkRule(project, check) : loadRule(project, table);
}

/** When something began to fail, after it last held. */
export async function firstFailure(
  manager: EntityManager,
  { kind, subject, table }: SubjectOut,
): Promise<Date | undefined> {
  const [found] = await manager.query<{ at: Date | null }[]>(
    kind === 'check'
      ? `select min(at) as at from check_result where environment = $1 and check_id = $2 and verdict <> 'holds'
         and at > coalesce((select max(at) from check_result where environment = $1 and check_id = $2 and verdict = 'holds'), '-infinity')`
      : `with steps as (select s.state, s.finished_at from run_step s join run r on r.id = s.run_id where r.environment = $1 and s.table_name = $2 and s.kind <> 'check')
         select min(finished_at) as at from steps where state = 'failed'
         and finished_at > coalesce((select max(finished_at) from steps where state = 'done'), '-infinity')`,
    [PRODUCTION, kind === 'check' ? subject : table],
  );
  return found?.at ?? undefined;
}

export function entryOf(incident: Incident, people: readonly PersonName[]): Sent<IncidentEntry> {
  const { id, title, state, severity, openedBy, since, openedAt, closedAt, reopened, lead } = incident;
  return {
    id,
    title,
    state,
    severity,
    lead: lead === null ? null : (people.find((p) => p.name === lead) ?? { name: lead, displayName: lead }),
    openedBy,
    since,
    openedAt,
    closedAt,
    reopened,
    subjects: incident.subjects.map(({ kind, subject, table }) => ({ kind, subject, table })),
  };
}
