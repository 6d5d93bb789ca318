import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { ReleaseDetail, ReleasedTexts } from '@ouvrage/api/release';
import type { Verdict } from '@ouvrage/core/check';
import { Repository } from 'typeorm';
import { PeopleService } from '../people/people.service.js';
import { ProjectService } from '../project/project.service.js';
import { WriterService } from '../project/writer.service.js';
import { CheckResult, Release } from '../run/run.entities.js';
import { RunService } from '../run/run.service.js';
import type { Sent } from '../shared/answers.js';
import { notFound } from '../shared/problem.js';

/** What was released: by whom, who approved it, which files and lines, what its run did. */
@Injectable()
export class ReleasedService {
  constructor(
    @InjectRepository(Release) private readonly releases: Repository<Release>,
    @InjectRepository(CheckResult) private readonly results: Repository<CheckResult>,
    private readonly projects: ProjectService,
    private readonly writers: WriterService,
    private readonly people: PeopleService,
    private readonly runs: RunService,
  ) {}

  private async find(id: number): Promise<Release> {
    const found = await this.releases.findOneBy({ id });
    if (!found) throw notFound(`The release ${id}`);
    return found;
  }

  async detail(id: number): Promise<Sent<ReleaseDetail>> {
    const { commit, commitBefore, workspace, message, person, tables, runId, at, review, withdraws } =
      await this.find(id);
    const { git } = this.projects;
    const changed = commitBefore === null ? undefined : await git.changedFiles(commitBefore, commit);
    const before = commitBefore === null ? new Map<string, string>() : await git.tree(commitBefore);
    const steps = await this.runs.stepsOf(runId);
    const verdicts = await this.results.query<{ verdict: Verdict; n: number }[]>(
      `select c.verdict, count(*)::int as n from check_result c join run_step s on s.id = c.step_id where s.run_id = $1 group by 1`,
      [runId],
    );
    const checks: Record<Verdict, number> = { broken: 0, advisory: 0, 'not run': 0, holds: 0 };
    for (const { verdict, n } of verdicts) checks[verdict] = n;
    return {
      ...{ id, commit, workspace, message, person, tables, runId, at, review, withdraws },
      canGoBack: commitBefore !== null,
      files: [...(changed ?? [])]
        .map(([path, text]) => ({
          path,
          kind: text === null ? ('deleted' as const) : before.has(path) ? ('changed' as const) : ('new' as const),
        }))
        .sort((a, b) => (a.path < b.path ? -1 : 1)),
      loads: steps
        .filter((s) => s.kind === 'load')
        .map(({ table, rowsIn, counts }) => ({ table, rows: rowsIn, counts })),
      checks,
    };
  }

  /** A file before and after, with who wrote each line, as sessions and tokens know it. */
  async texts(id: number, path: string): Promise<ReleasedTexts> {
    const { commit, commitBefore } = await this.find(id);
    const { git } = this.projects;
    const [before, after] = [
      commitBefore === null ? undefined : await git.fileAt(commitBefore, path),
      await git.fileAt(commit, path),
    ];
    if (before === undefined && after === undefined) throw notFound(`The file ${path} in release ${id}`);
    if (after === undefined) return { before: before ?? null, after: null, authors: [] };
    const lines = await git.lines(commit, path);
    const known = await this.writers.ofFile(path, [...new Set(lines.map((l) => l.commit))]);
    const names = new Map(
      (await this.people.byIds([...new Set([...known.values()].flat())])).map((p) => [p.id, p.displayName]),
    );
    const authors = lines.map(
      (l) =>
        known
          .get(l.commit)
          ?.map((person) => names.get(person) ?? l.author)
          .join(', ') ?? l.author,
    );
    return { before: before ?? null, after, authors };
  }
}
