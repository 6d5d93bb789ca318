import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { TodayAnswer } from '@ouvrage/api/release';
import type { Review, ReviewNeed, ReviewVerdict, ReviewWord, ReleasedReview } from '@ouvrage/api/review';
import { reachable, readersOf } from '@ouvrage/core/graph';
import type { Project } from '@ouvrage/core/model';
import { changedOwnTables, compareProjects, reviewNeeds } from '@ouvrage/core/review';
import { createHash } from 'node:crypto';
import { Repository } from 'typeorm';
import { MessageService } from '../message/message.service.js';
import { ReceiverService } from '../message/receiver.service.js';
import { sameName } from '../message/recipients.js';
import { mayAct } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { DraftService } from '../project/draft.service.js';
import type { Workspace } from '../project/project.entities.js';
import { ProjectService } from '../project/project.service.js';
import { WriterService } from '../project/writer.service.js';
import { Release } from '../run/run.entities.js';
import type { Sent } from '../shared/answers.js';
import { Problem } from '../shared/problem.js';
import { currentTime } from '../shared/time.js';
import { RemarkService } from './remark.service.js';
import { RequestRow, VerdictRow } from './review.entities.js';

const NOT_MERGED = 'Production has changed the same files since: resolve the conflict, then it can be approved.';

/** What a release of a workspace would change, and who wrote it. */
interface Proposed {
  readonly workspace: Workspace;
  readonly main: string;
  /** The tree that its release would make; none where it is in conflict. */
  readonly tree: string | undefined;
  /** The digest of its files before and after; null where there are none, or where they are in conflict. */
  readonly diff: string | null;
  /** Why it cannot be approved as it is. */
  readonly obstacle: string | null;
  /** Ids of the people who wrote any part of it. */
  readonly authors: ReadonlySet<string>;
}

/** A workspace's branch merged with production. */
type Merged = Awaited<ReturnType<ProjectService['mergedWithMain']>>;

interface Releasing {
  readonly merged: Merged;
  readonly consents: readonly string[];
  readonly override: string | undefined;
}

interface Sides {
  readonly before: Project;
  readonly after: Project;
}

/** A verdict with why it counts no more. */
type Judged = VerdictRow & { readonly stale: string | null };

/** Reviews of workspaces: what a release needs by the rules of the project, who approves it, and who cannot. */
@Injectable()
export class ReviewService {
  constructor(
    @InjectRepository(VerdictRow) private readonly verdicts: Repository<VerdictRow>,
    @InjectRepository(RequestRow) private readonly requests: Repository<RequestRow>,
    @InjectRepository(Release) private readonly releases: Repository<Release>,
    private readonly projects: ProjectService,
    private readonly drafts: DraftService,
    private readonly writers: WriterService,
    private readonly people: PeopleService,
    private readonly receivers: ReceiverService,
    private readonly messages: MessageService,
    private readonly remarks: RemarkService,
  ) {}

  /** The review of a workspace, as a person sees it. */
  async of(slug: string, me: Person): Promise<Sent<Review>> {
    const proposed = await this.proposed(slug);
    const [verdicts, authors, asked, remarks] = await Promise.all([
      this.judged(proposed),
      this.people.byIds([...proposed.authors]),
      this.asked(proposed.workspace),
      this.remarks.of(proposed.workspace),
    ]);
    const needs = await this.needs(proposed, verdicts);
    return {
      diff: proposed.diff,
      authors: authors.map((a) => a.displayName),
      needs,
      verdicts: verdicts.map(verdictOut),
      missing: missingOf(needs, verdicts),
      mayNot: whyNot(me, proposed),
      asked: asked && { person: asked.person.displayName, at: asked.at },
      remarks,
    };
  }

  private async lastRelease(slug: string): Promise<Date | undefined> {
    return (await this.releases.findOne({ where: { workspace: slug }, order: { id: 'DESC' } }))?.at;
  }

  /** Who has asked for the review since the workspace was last released. */
  private async asked(workspace: Workspace): Promise<RequestRow | null> {
    const row = await this.requests.findOne({ where: { workspaceId: workspace.id }, relations: { person: true } });
    const released = await this.lastRelease(workspace.slug);
    return row && (!released || row.at > released) ? row : null;
  }

  /** @param merging what is proposed, where that is known: a branch may move on while it is looked at */
  private async proposed(slug: string, merging?: Merged): Promise<Proposed> {
    const workspace = await this.projects.workspace(slug);
    const drafts = await this.drafts.of(workspace);
    const authors = await this.writers.of(workspace, await this.lastRelease(slug));
    const merged = merging ?? (await this.merged(slug));
    const main = merged?.main ?? (await this.projects.productionCommit());
    const common = { workspace, main, authors };
    if (!merged) return { ...common, tree: undefined, diff: null, obstacle: NOT_MERGED };
    const tree = (await this.projects.git.git(['rev-parse', merged.tree])).trim();
    const diff = digestOf(await this.projects.git.tree(main), await this.projects.git.tree(tree));
    const obstacle =
      drafts.length > 0
        ? `${drafts.length === 1 ? 'One draft is' : `${drafts.length} drafts are`} not committed: what is approved is committed first.`
        : diff === null
          ? 'Production already has all of this.'
          : null;
    return { ...common, tree, diff, obstacle };
  }

  private merged(slug: string): Promise<Merged | undefined> {
    return this.projects.mergedWithMain(slug).catch((error: unknown) => {
      if (error instanceof Problem && error.code === 'merge-conflict') return undefined;
      throw error;
    });
  }

  /** The project as production has it, and as a release would leave it. */
  private async sides({ main, tree }: Pick<Proposed, 'main' | 'tree'>): Promise<Sides> {
    const before = await this.projects.projectAt(main);
    return { before, after: tree === undefined ? before : await this.projects.projectAt(tree) };
  }

  /** What people said of a workspace, the newest first, each with why it counts no more. */
  private async judged(proposed: Proposed): Promise<Judged[]> {
    const { workspace, diff, main, authors } = proposed;
    const rows = await this.verdicts.find({
      where: { workspaceId: workspace.id },
      relations: { person: true },
      order: { at: 'DESC' },
    });
    const judged: Judged[] = [];
    for (const row of rows) {
      const stale = authors.has(row.personId)
        ? 'wrote a part of it since'
        : !mayAct(row.person.role, 'editor')
          ? 'is no longer an editor'
          : row.diff !== diff
            ? 'the change is another one now'
            : row.main === main
              ? null
              : await this.movedUnder(row.main, await this.sides(proposed));
      judged.push({ ...row, stale });
    }
    return judged;
  }

  /**
   * What another release has changed of what a change reads or feeds. The files of the change itself are the same: they
   * are in its digest.
   */
  private async movedUnder(earlier: string, { before, after }: Sides): Promise<string | null> {
    const was = await this.projects.projectAt(earlier);
    const released = changedOwnTables(was, before, compareProjects(was, before));
    const own = changedOwnTables(before, after, compareProjects(before, after));
    const around = new Set(
      [was, before, after].flatMap((project) => [
        ...reachable(project.reads, own).keys(),
        ...reachable(readersOf(project.reads), own).keys(),
      ]),
    );
    const [moved] = released.filter((table) => around.has(table) || own.includes(table));
    return moved === undefined ? null : `another release has changed ${moved}`;
  }

  /** What the rules of production and of the change ask, and whether it is met. */
  private async needs(proposed: Proposed, verdicts: readonly Judged[]): Promise<ReviewNeed[]> {
    const { before, after } = await this.sides(proposed);
    const { approvals, owners } = reviewNeeds(before, after);
    const agreed = verdicts.filter(counts('approved'));
    const [editors, { desks }] = await Promise.all([
      this.people.acting('editor'),
      this.receivers.known(this.verdicts.manager),
    ]);
    const free = editors.filter((p) => !proposed.authors.has(p.id));
    const ofOwners = [...owners].map(([owner, tables]): ReviewNeed => {
      const desk = desks.find((d) => sameName(d.name, owner));
      const own = free.filter(
        (p) => desk?.members.includes(p.name) || sameName(p.name, owner) || sameName(p.displayName, owner),
      );
      // An owner whom nobody stands for, or whose people are all authors.
      const people = own.length > 0 ? own : free.filter((p) => p.role === 'administrator');
      return {
        kind: 'owner',
        owner,
        tables,
        people: people.map((p) => p.displayName),
        isMet: agreed.some((v) => people.some((p) => p.id === v.personId)),
      };
    });
    return [
      ...(approvals > 0 ? [{ kind: 'approvals' as const, wanted: approvals, found: agreed.length }] : []),
      ...ofOwners,
    ];
  }

  /** Approves or declines the diff that a person has seen. @throws Problem where it is another one by now, or not theirs to judge */
  async judge(
    me: Person,
    slug: string,
    { word, text, diff }: { readonly word: ReviewWord; readonly text: string; readonly diff: string },
  ): Promise<void> {
    const proposed = await this.proposed(slug);
    const reason = whyNot(me, proposed);
    if (reason !== null)
      throw new Problem(
        409,
        'cannot-judge',
        `${word === 'approved' ? 'Approving' : 'Declining'} is not possible`,
        reason,
      );
    if (proposed.diff !== diff)
      throw new Problem(
        409,
        'other-diff',
        'The workspace has changed since you read it',
        'Read it again, then say so.',
      );
    await this.verdicts.upsert(
      { workspaceId: proposed.workspace.id, personId: me.id, word, text, diff, main: proposed.main, at: currentTime() },
      ['workspaceId', 'personId'],
    );
    await this.people.audit(me, `review ${word}`, slug, { diff, text });
  }

  /** Takes back what a person has said. */
  async withdraw(me: Person, slug: string): Promise<void> {
    const workspace = await this.projects.workspace(slug);
    const { affected } = await this.verdicts.delete({ workspaceId: workspace.id, personId: me.id });
    if (affected) await this.people.audit(me, 'review withdrawn', slug);
  }

  /** Asks for the review: whoever may approve finds it on Today, and the owners of what changes are told. */
  async ask(me: Person, slug: string): Promise<void> {
    const proposed = await this.proposed(slug);
    const { workspace, diff, obstacle } = proposed;
    if (obstacle !== null || diff === null)
      throw new Problem(409, 'cannot-ask', 'There is nothing to review yet', obstacle ?? undefined);
    const { before, after } = await this.sides(proposed);
    const tables = changedOwnTables(before, after, compareProjects(before, after));
    await this.requests.manager.transaction(async (manager) => {
      await manager.upsert(RequestRow, { workspaceId: workspace.id, person: me, at: currentTime() }, ['workspaceId']);
      await this.messages.tell(manager, before, {
        key: `review:${workspace.id}:${diff}`,
        kind: 'review',
        severity: 'medium',
        title: `Review of ${workspace.name}, asked by ${me.displayName}`,
        lines: [tables.length ? `It changes ${listed(tables)}.` : 'It changes no table.'],
        path: `/w/${slug}/releases`,
        tables,
      });
      await this.people.audit(me, 'review asked', slug, { diff, manager });
    });
  }

  /**
   * Whether what is about to be released of a workspace may be, and what its release keeps of the review.
   * @throws Problem 409 with what is missing; 403 where someone else than an administrator overrides it
   */
  async allow(me: Person, slug: string, { merged, consents, override }: Releasing): Promise<Sent<ReleasedReview>> {
    const proposed = await this.proposed(slug, merged);
    const verdicts = await this.judged(proposed);
    const missing = missingOf(await this.needs(proposed, verdicts), verdicts);
    const isOverridden = missing.length > 0 && override !== undefined;
    if (isOverridden && !mayAct(me.role, 'administrator'))
      throw new Problem(403, 'not-allowed', 'Only an administrator releases without what a review needs');
    if (missing.length > 0 && !isOverridden)
      throw new Problem(
        409,
        'needs-approval',
        `The review lacks ${missing.join(', and ')}`,
        'Ask for it in the review.',
        {
          missing,
        },
      );
    if (isOverridden) await this.people.audit(me, 'review overridden', slug, { missing, why: override });
    const authors = await this.people.byIds([...proposed.authors]);
    return {
      authors: authors.map((a) => a.displayName),
      verdicts: verdicts.filter((v) => v.stale === null).map(verdictOut),
      consents,
      override: isOverridden ? { person: me.displayName, text: override, missing } : null,
    };
  }

  /** Workspaces whose review was asked for since their last release, and waits for a person; of many the newest. */
  async waitingFor(me: Person): Promise<Sent<TodayAnswer['reviews']>> {
    if (!mayAct(me.role, 'editor')) return [];
    const asked = (await this.requests.query(
      `select w.slug, w.name, p.display_name as "by", q.at
       from review_request q join workspace w on w.id = q.workspace_id join person p on p.id = q.person_id
       where w.closed_at is null and not exists (select from release r where r.workspace = w.slug and r.at > q.at)
       order by q.at desc limit $1`,
      [MOST_WAITING],
    )) as { slug: string; name: string; by: string; at: Date }[];
    const found = [];
    for (const one of asked) {
      const proposed = await this.proposed(one.slug);
      if (whyNot(me, proposed) !== null) continue;
      const said = (await this.judged(proposed)).some((v) => v.personId === me.id && v.stale === null);
      if (!said) found.push(one);
    }
    return found;
  }
}

const MOST_WAITING = 20;
const MOST_NAMED = 5;

const listed = (tables: readonly string[]): string =>
  tables.length > MOST_NAMED
    ? `${tables.slice(0, MOST_NAMED).join(', ')} and ${tables.length - MOST_NAMED} more`
    : tables.join(', ');

/** One digest of the files that differ between two trees, with what they hold on either side; null where none does. */
function digestOf(before: ReadonlyMap<string, string>, after: ReadonlyMap<string, string>): string | null {
  const paths = [...new Set([...before.keys(), ...after.keys()])].sort();
  const differing = paths
    .filter((path) => before.get(path) !== after.get(path))
    .map((path) => [path, before.get(path) ?? null, after.get(path) ?? null]);
  return differing.length === 0 ? null : createHash('sha256').update(JSON.stringify(differing)).digest('hex');
}

const counts =
  (word: ReviewWord) =>
  (v: Judged): boolean =>
    v.word === word && v.stale === null;

const verdictOut = ({ person, word, text, at, stale }: Judged): Sent<ReviewVerdict> => ({
  person: person.displayName,
  word,
  text,
  at,
  stale,
});

/** Why a person can neither approve nor decline; null where they can. */
function whyNot(me: Person, { authors, obstacle }: Proposed): string | null {
  if (!mayAct(me.role, 'editor')) return 'It needs the role editor.';
  if (authors.has(me.id)) return 'You wrote a part of it: somebody else approves it.';
  return obstacle;
}

/** What stands between a review and its release, in words. */
function missingOf(needs: readonly ReviewNeed[], verdicts: readonly Judged[]): string[] {
  const open = needs.flatMap((need) => {
    if (need.kind === 'owner') return need.isMet ? [] : [`the approval of ${need.owner}`];
    const missing = need.wanted - need.found;
    return missing <= 0 ? [] : [missing === 1 ? 'one approval' : `${missing} approvals`];
  });
  const declined = verdicts
    .filter(counts('declined'))
    .map((v) => `a second word of ${v.person.displayName}, who declines it`);
  return [...open, ...declined];
}
