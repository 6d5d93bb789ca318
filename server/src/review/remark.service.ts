import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { Remark, RemarkPlace } from '@ouvrage/api/review';
import { didYouMean } from '@ouvrage/core/sql';
import { Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { PRODUCTION } from '../project/branches.js';
import type { Workspace } from '../project/project.entities.js';
import { type Line, ProjectService } from '../project/project.service.js';
import type { Sent } from '../shared/answers.js';
import { notFound, Problem } from '../shared/problem.js';
import { currentTime } from '../shared/time.js';
import { RemarkRow } from './review.entities.js';

/** A place as it is asked for: the text of a line is read from its file. */
export type PlaceAsked = RemarkPlace extends infer P ? (P extends { kind: 'line' } ? Omit<P, 'text'> : P) : never;

const MOST = 1000;

/** Remarks of a review: on a line, a column, a kind of rows or the whole; answered and resolved. */
@Injectable()
export class RemarkService {
  constructor(
    @InjectRepository(RemarkRow) private readonly remarks: Repository<RemarkRow>,
    private readonly projects: ProjectService,
    private readonly people: PeopleService,
  ) {}

  /** Remarks of a workspace, the oldest first, each where its text is now. */
  async of(workspace: Workspace): Promise<Sent<Remark>[]> {
    const rows = await this.remarks.find({
      where: { workspace: { id: workspace.id } },
      relations: { person: true, resolvedBy: true },
      order: { id: 'ASC' },
      take: MOST,
    });
    if (rows.length === 0) return [];
    const { project } = await this.projects.line(workspace.slug);
    const one = ({ id, person, text, at }: RemarkRow) => ({ id, person: person.displayName, text, at });
    return rows
      .filter((r) => r.answers === null)
      .map((row) => ({
        ...one(row),
        place: row.place,
        line: row.place.kind === 'line' ? lineNow(project.files.get(row.place.path)?.text ?? '', row.place) : null,
        answers: rows.filter((r) => r.answers === row.id).map(one),
        resolved: row.resolvedBy && row.resolvedAt ? { person: row.resolvedBy.displayName, at: row.resolvedAt } : null,
      }));
  }

  /** Makes a remark. @throws Problem where there is no such place */
  async make(
    me: Person,
    slug: string,
    { place, text }: { readonly place: PlaceAsked; readonly text: string },
  ): Promise<void> {
    const workspace = await this.projects.workspace(slug);
    const line = await this.projects.line(slug);
    await this.store(me, workspace, { place: await this.known(line, place), text, answers: null });
  }

  /** Answers a remark; one that was resolved is open again. */
  async answer(me: Person, slug: string, { id, text }: { readonly id: number; readonly text: string }): Promise<void> {
    const { workspace, remark } = await this.find(slug, id);
    await this.store(me, workspace, { place: remark.place, text, answers: id });
    await this.remarks.update(id, { resolvedBy: null, resolvedAt: null });
  }

  /** Resolves a remark, or opens it again. */
  async resolve(
    me: Person,
    slug: string,
    { id, resolved }: { readonly id: number; readonly resolved: boolean },
  ): Promise<void> {
    await this.find(slug, id);
    await this.remarks.update(id, { resolvedBy: resolved ? me : null, resolvedAt: resolved ? currentTime() : null });
    await this.people.audit(me, resolved ? 'remark resolved' : 'remark opened again', slug, { remark: id });
  }

  private async store(
    me: Person,
    workspace: Workspace,
    row: Pick<RemarkRow, 'place' | 'text' | 'answers'>,
  ): Promise<void> {
    if ((await this.remarks.countBy({ workspace: { id: workspace.id } })) >= MOST)
      throw new Problem(
        409,
        'too-many',
        `This review has ${MOST} remarks, and takes no more`,
        'Release or split the workspace.',
      );
    const made = this.remarks.create({ ...row, workspace, person: me, resolvedBy: null, resolvedAt: null });
    await this.remarks.save(made);
    await this.people.audit(me, 'remark', workspace.slug, { remark: made.id });
  }

  private async find(slug: string, id: number): Promise<{ workspace: Workspace; remark: RemarkRow }> {
    const workspace = await this.projects.workspace(slug);
    const remark = await this.remarks.findOneBy({ id, workspace: { id: workspace.id } });
    if (!remark || remark.answers !== null) throw notFound(`The remark ${id} of this review`);
    return { workspace, remark };
  }

  /** A place of a workspace, with the text of its line. */
  private async known({ project }: Line, place: PlaceAsked): Promise<RemarkPlace> {
    if (place.kind === 'whole') return { kind: 'whole' };
    if (place.kind === 'line') {
      const { path, line } = place;
      const text = project.files.get(path)?.text.split('\n')[line - 1];
      if (text === undefined) throw notFound(`Line ${line} of ${path} in this workspace`);
      return { kind: 'line', path, line, text };
    }
    const here = project.tables.has(place.table) ? project : (await this.projects.line(PRODUCTION)).project;
    if (!here.tables.has(place.table))
      throw new Problem(
        422,
        'unknown-table',
        `There is no table ${place.table}`,
        didYouMean(place.table, project.tables.keys()),
      );
    if (place.kind === 'rows') return { kind: 'rows', table: place.table, rows: place.rows };
    const columns = here.columns.get(place.table)?.map((c) => c.name) ?? [];
    if (!columns.includes(place.column))
      throw new Problem(
        422,
        'unknown-column',
        `${place.table} has no column ${place.column}`,
        didYouMean(place.column, columns),
      );
    return { kind: 'column', table: place.table, column: place.column };
  }
}

/** Where a line of a remark is by now: the nearest one with the same words; null where there is none. */
export function lineNow(
  text: string,
  { line, text: was }: { readonly line: number; readonly text: string },
): number | null {
  const words = was.trim();
  let nearest: number | null = null;
  for (const [i, now] of text.split('\n').entries())
    if (now.trim() === words && (nearest === null || Math.abs(i + 1 - line) < Math.abs(nearest - line)))
      nearest = i + 1;
  return nearest;
}
