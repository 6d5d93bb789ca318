import { DraftService } from './draft.service.js';
import type { Commit, DraftEntry, FileTexts, FilesAnswer, Sharing, WorkspaceEntry } from '@ouvrage/api/project';
import type { Sent } from '../shared/answers.js';
import { Body, Controller, Delete, Get, HttpCode, Param, Post, Put, Query } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { Matches } from 'class-validator';
import { ForTokens, Me, Needs, NotForTokens } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { Flag, Names, Optional, ProjectPath, Text, TextOrNull, TextsByName, Whole } from '../shared/fields.js';
import { notFound } from '../shared/problem.js';
import type { Draft, Workspace } from './project.entities.js';
import { branchOf, MAIN, PRODUCTION, WORKSPACE_BRANCHES } from './branches.js';
import { ProjectService } from './project.service.js';
import { Edits, mayEdit, SharingService } from './sharing.service.js';

class WorkspaceBody {
  @Text(1, 60, 'Berth dues')
  name: string;
}

class DraftBody {
  @ProjectPath()
  path: string;

  /** The new text; null deletes the file. */
  @TextOrNull(2_000_000)
  text: string | null;

  /** The version that was edited; 0 where there was no draft. */
  @Whole(0, 1_000_000_000)
  version: number;
}

class CommitBody {
  @Text(1, 5000, 'Charge dues by measured tonnage')
  message: string;
}

class SettledBody {
  /** Texts by path for files in conflict; null deletes. */
  @TextsByName({ most: 1000, longest: 2_000_000, orNull: true })
  files?: Record<string, string | null>;
}

class SharingBody {
  /** Everybody who edits at all. */
  @Flag()
  all: boolean;

  /** Those who edit it, by sign-in name. */
  @Names(200)
  names: string[];
}

class FileQuery {
  @ProjectPath()
  path: string;
}

class SinceQuery {
  /** A commit whose files are known already. */
  @Optional()
  @Matches(/^[0-9a-f]{40}$/)
  @ApiProperty({ type: String, required: false })
  since?: string;

  /** The commit whose files are asked for; the newest where none is said. */
  @Optional()
  @Matches(/^[0-9a-f]{7,40}$/)
  @ApiProperty({ type: String, required: false })
  at?: string;
}

class CommitFileQuery extends FileQuery {
  @Matches(/^[0-9a-f]{7,40}$/)
  @ApiProperty({ type: String })
  commit: string;
}

const draftOut = (d: Draft) => ({
  path: d.path,
  text: d.text,
  version: d.version,
  by: d.savedBy.displayName,
  at: d.updatedAt,
  isNew: d.baseBlob === null,
});
const workspaceOut = (
  w: Workspace,
  me: Person,
  names: ReadonlyMap<string, string>,
  { drafts = 0, committedAt = w.createdAt }: { drafts?: number | undefined; committedAt?: Date | undefined } = {},
) => ({
  slug: w.slug,
  name: w.name,
  owner: w.owner.displayName,
  isShared: mayEdit(me, w),
  sharedWith: w.sharedWithAll ? ('all' as const) : w.sharedWith.flatMap((id) => names.get(id) ?? []),
  createdAt: w.createdAt,
  prefix: w.prefix,
  drafts,
  changedAt: committedAt > w.createdAt ? committedAt : w.createdAt,
});

@ApiTags('project')
@Controller('api/workspaces')
export class ProjectController {
  constructor(
    private readonly drafts: DraftService,
    private readonly project: ProjectService,
    private readonly sharing: SharingService,
    private readonly people: PeopleService,
  ) {}

  /** Open workspaces. */
  @Get()
  async list(@Me() me: Person): Promise<Sent<readonly WorkspaceEntry[]>> {
    const [all, drafts, committed, names] = await Promise.all([
      this.project.list(),
      this.drafts.counts(),
      this.project.git.committedAt(WORKSPACE_BRANCHES),
      this.people.displayNames(),
    ]);
    return all.map((w) =>
      workspaceOut(w, me, names, { drafts: drafts.get(w.id), committedAt: committed.get(branchOf(w.slug)) }),
    );
  }

  /** Opens a workspace of production as it is now. */
  @Needs('editor')
  @ForTokens('write')
  @Post()
  async create(@Me() me: Person, @Body() { name }: WorkspaceBody): Promise<Sent<WorkspaceEntry>> {
    return workspaceOut(await this.project.createWorkspace(me, name), me, new Map());
  }

  /** Who edits a workspace beside its owner, and could. */
  @NotForTokens()
  @Get(':slug/sharing')
  shared(@Param('slug') slug: string): Promise<Sent<Sharing>> {
    return this.sharing.of(slug);
  }

  /** Shares a workspace with those who are named, and with nobody else; its owner and administrators do. */
  @Needs('editor')
  @Put(':slug/sharing')
  share(@Me() me: Person, @Param('slug') slug: string, @Body() { all, names }: SharingBody): Promise<Sent<Sharing>> {
    return this.sharing.share(me, slug, { all, names });
  }

  /** The files as they are committed, all or those that changed since a commit, and the drafts over them. */
  @Get(':slug/files')
  async files(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Query() { since, at }: SinceQuery,
  ): Promise<Sent<FilesAnswer>> {
    const line = await this.project.line(slug);
    const commit = at === undefined ? line.commit : await this.project.git.resolve(at);
    if (commit === undefined) throw notFound(`The commit ${at!}`);
    const changed = since === undefined ? undefined : await this.project.git.changedFiles(since, commit);
    return {
      project: await this.project.identity(),
      slug,
      name: line.workspace?.name ?? PRODUCTION,
      keptBy: line.workspace && !mayEdit(me, line.workspace) ? line.workspace.owner.displayName : null,
      commit,
      files: Object.fromEntries(changed ?? (await this.project.git.files(commit))),
      since: changed ? since! : null,
      drafts: at === undefined ? line.drafts.map(draftOut) : [],
    };
  }

  /** Saves a draft of one file; refused where somebody has saved another since. */
  @Edits()
  @ForTokens('write')
  @Put(':slug/drafts')
  async keep(
    @Me() me: Person,
    @Param('slug') slug: string,
    @Body() { path, text, version }: DraftBody,
  ): Promise<Sent<DraftEntry>> {
    return draftOut(
      await this.drafts.keep(me, await this.project.workspace(slug), { path, text: text ?? null, version }),
    );
  }

  /** Discards a draft. */
  @Edits()
  @ForTokens('write')
  @Delete(':slug/drafts')
  @HttpCode(204)
  async drop(@Param('slug') slug: string, @Query() { path }: FileQuery): Promise<void> {
    await this.drafts.drop(await this.project.workspace(slug), path);
  }

  /** Puts a draft onto the file as it is committed now. */
  @Edits()
  @ForTokens('write')
  @Post(':slug/drafts/rebase')
  @HttpCode(204)
  async rebase(@Param('slug') slug: string, @Body() { path }: FileQuery): Promise<void> {
    await this.drafts.rebase(await this.project.workspace(slug), path);
  }

  /** Commits all drafts of a workspace. */
  @Edits()
  @ForTokens('write')
  @Post(':slug/commits')
  commit(@Me() me: Person, @Param('slug') slug: string, @Body() { message }: CommitBody): Promise<Sent<Commit>> {
    return this.project.commit(me, slug, message);
  }

  /** Commits of the workspace that production lacks; of production, its newest. */
  @Get(':slug/commits')
  async commits(@Param('slug') slug: string): Promise<Sent<readonly Commit[]>> {
    await this.project.line(slug);
    return this.project.git.log(branchOf(slug), slug === PRODUCTION ? { most: 50 } : { notIn: MAIN });
  }

  /** Commits that changed a file, newest first. */
  @Get(':slug/history')
  async history(@Param('slug') slug: string, @Query() { path }: FileQuery): Promise<Sent<readonly Commit[]>> {
    await this.project.line(slug);
    return this.project.git.log(branchOf(slug), { file: path });
  }

  /** A file's text in a commit and in the commit before it. */
  @Get(':slug/file')
  async file(@Query() { path, commit }: CommitFileQuery): Promise<Sent<FileTexts>> {
    const id = await this.project.git.resolve(commit);
    if (!id) throw notFound(`The commit ${commit}`);
    return {
      path,
      commit: id,
      text: (await this.project.git.fileAt(id, path)) ?? null,
      before: (await this.project.git.fileAt(`${id}^`, path)) ?? null,
    };
  }

  /** Merges production into a workspace; files in conflict need their settled text. */
  @Edits()
  @ForTokens('write')
  @Post(':slug/take-production')
  take(@Me() me: Person, @Param('slug') slug: string, @Body() { files }: SettledBody): Promise<Sent<Commit>> {
    return this.project.takeProduction(me, slug, files ?? {});
  }
}
