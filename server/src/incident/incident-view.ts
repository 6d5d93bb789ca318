import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { AffectedTable, IncidentDetail } from '@ouvrage/api/incident';
import { reachable, readersOf } from '@ouvrage/core/graph';
import type { Project } from '@ouvrage/core/model';
import { In, Not, Repository } from 'typeorm';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { QualityService } from '../quality/quality.service.js';
import type { Sent } from '../shared/answers.js';
import { Incident, IncidentEvent, IncidentSubject } from './incident.entities.js';
import { entryOf, IncidentService } from './incident.service.js';

const MOST_EVENTS = 1000;
const MOST_BEFORE = 20;

/** Tables that fail now, and the open incidents of tables. */
interface Around {
  readonly project: Project;
  /** Broken checks of a table; what is advisory causes nothing. */
  readonly failing: ReadonlyMap<string, number>;
  readonly open: ReadonlyMap<string, Pick<Incident, 'id' | 'title'>>;
}

/** An incident as people look at it: what happened, what it affects, and what may have caused it, by lineage. */
@Injectable()
export class IncidentView {
  constructor(
    @InjectRepository(Incident) private readonly incidents: Repository<Incident>,
    @InjectRepository(IncidentEvent) private readonly events: Repository<IncidentEvent>,
    @InjectRepository(IncidentSubject) private readonly subjects: Repository<IncidentSubject>,
    private readonly service: IncidentService,
    private readonly projects: ProjectService,
    private readonly quality: QualityService,
  ) {}

  async detail(id: number): Promise<Sent<IncidentDetail>> {
    const incident = await this.service.get(id);
    const [people, events, now, around, before] = await Promise.all([
      this.service.names(),
      this.events.find({ where: { incident: { id } }, order: { at: 'ASC', id: 'ASC' }, take: MOST_EVENTS }),
      this.service.standing(incident.subjects),
      this.around(),
      this.before(incident),
    ]);
    const tables = new Set(incident.subjects.map((s) => s.table));
    const beyond = (graph: ReadonlyMap<string, readonly string[]>) =>
      [...reachable(graph, tables)].filter(([t]) => !tables.has(t));
    const affected = beyond(readersOf(around.project.needs)).map(([t]) => besideOf(t, around));
    const causes = beyond(around.project.needs)
      .filter(([t]) => around.failing.has(t) || around.open.has(t))
      .sort(([, a], [, b]) => b - a)
      .map(([t]) => besideOf(t, around));
    return {
      ...entryOf(incident, people),
      description: incident.description,
      learned: incident.learned,
      closedThough: incident.closedThough,
      events: events.map((e) => ({
        id: e.id,
        at: e.at,
        kind: e.kind,
        person: e.person,
        text: e.text,
        run: e.run,
        verdict: e.verdict,
        atFault: e.atFault,
        total: e.total,
        subject: e.subject,
      })),
      now,
      affected,
      causes,
      related: incident.state === 'closed' ? [] : relatedOf(id, { affected, causes }, around),
      before: before.map((b) => entryOf(b, people)),
    };
  }

  private async around(): Promise<Around> {
    const line = await this.projects.line(PRODUCTION);
    const { project } = line;
    const { checks } = await this.quality.stateOf(line);
    const failing = new Map<string, number>();
    for (const c of checks) if (c.verdict === 'broken') failing.set(c.table, (failing.get(c.table) ?? 0) + 1);
    const open = await this.incidents.find({ where: { state: Not('closed') }, relations: { subjects: true } });
    return { project, failing, open: new Map(open.flatMap((i) => i.subjects.map((s) => [s.table, i] as const))) };
  }

  /** Earlier incidents about the same things, the newest first. */
  private async before({ id, subjects }: Incident): Promise<Incident[]> {
    if (subjects.length === 0) return [];
    const same = await this.subjects.find({
      where: subjects.map(({ kind, subject }) => ({ kind, subject })),
      relations: { incident: true },
    });
    const ids = [...new Set(same.map((s) => s.incident.id))].filter((other) => other < id);
    if (ids.length === 0) return [];
    return this.incidents.find({
      where: { id: In(ids) },
      relations: { subjects: true },
      order: { id: 'DESC' },
      take: MOST_BEFORE,
    });
  }
}

const besideOf = (table: string, { project, failing, open }: Around): AffectedTable => ({
  table,
  owner: project.tables.get(table)?.contract?.options.get('owner')?.value ?? null,
  failing: failing.get(table) ?? 0,
  incident: open.get(table)?.id ?? null,
});

/** Open incidents upstream, which may be the cause of this one, and downstream, of which this one may be the cause. */
function relatedOf(
  id: number,
  { affected, causes }: Pick<IncidentDetail, 'affected' | 'causes'>,
  { open }: Around,
): IncidentDetail['related'] {
  const found = new Map<number, IncidentDetail['related'][number]>();
  for (const [tables, why] of [
    [causes, (t: string) => `${t} is upstream: it may be the cause`],
    [affected, (t: string) => `${t} reads it: this may be the cause`],
  ] as const)
    for (const { table, incident } of tables)
      if (incident !== null && incident !== id && !found.has(incident))
        found.set(incident, { id: incident, title: open.get(table)!.title, why: why(table) });
  return [...found.values()];
}
