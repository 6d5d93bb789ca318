import { applyDecorators, Injectable, UseGuards, type CanActivate, type ExecutionContext } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { Sharing } from '@ouvrage/api/project';
import { IsNull, Repository } from 'typeorm';
import { mayAct, Needs, type SignedInRequest } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { Problem } from '../shared/problem.js';
import { PRODUCTION } from './branches.js';
import { Workspace } from './project.entities.js';
import { ProjectService } from './project.service.js';

/** Whether a person edits and runs a workspace: its owner, those it is shared with, administrators. */
export const mayEdit = (person: Person, { owner, sharedWithAll, sharedWith }: Workspace): boolean =>
  mayAct(person.role, 'editor') &&
  (owner.id === person.id || sharedWithAll || sharedWith.includes(person.id) || mayAct(person.role, 'administrator'));

/** @throws Problem 403 for others than its owner and administrators. @param does what these alone do, `shares` */
export function refuseOthers(me: Person, { name, owner }: Workspace, does: string): void {
  if (owner.id !== me.id && !mayAct(me.role, 'administrator'))
    throw new Problem(
      403,
      'not-allowed',
      `${name} belongs to ${owner.displayName}`,
      `Its owner or an administrator ${does} it.`,
    );
}

/** A workspace belongs to a person; others edit it when it is shared with them. */
@Injectable()
export class SharingService {
  constructor(
    @InjectRepository(Workspace) private readonly workspaces: Repository<Workspace>,
    private readonly projects: ProjectService,
    private readonly people: PeopleService,
  ) {}

  /** @throws Problem 403 where a workspace is not shared with a person; production is nobody's, and not held up here */
  async refuseUnshared(person: Person, slug: string): Promise<void> {
    if (slug === PRODUCTION) return;
    const workspace = await this.projects.workspace(slug);
    if (!mayEdit(person, workspace))
      throw new Problem(
        403,
        'not-shared',
        `${workspace.name} belongs to ${workspace.owner.displayName} and is not shared with you`,
        `Ask ${workspace.owner.displayName} to share it under Settings, Workspaces, or open a workspace of your own.`,
      );
  }

  /** The names of open workspaces that a person may not push to. */
  async unshared(person: Person): Promise<string[]> {
    const all = await this.workspaces.find({ where: { closedAt: IsNull() }, relations: { owner: true } });
    return all.filter((w) => !mayEdit(person, w)).map((w) => w.slug);
  }

  /** With whom a workspace is shared, and could be. */
  async of(slug: string): Promise<Sharing> {
    return this.sharing(await this.projects.workspace(slug));
  }

  /**
   * Shares a workspace with everybody who edits, or with some; whoever is left out cannot edit it from then on.
   * @param names sign-in names
   * @throws Problem 403 for others than its owner and administrators, 422 for names of nobody who edits
   */
  async share(
    me: Person,
    slug: string,
    { all, names }: { readonly all: boolean; readonly names: readonly string[] },
  ): Promise<Sharing> {
    const workspace = await this.projects.workspace(slug);
    refuseOthers(me, workspace, 'shares');
    const found = (await this.people.acting('editor')).filter((p) => names.includes(p.name));
    const wrong = names.find((name) => !found.some((p) => p.name === name));
    if (wrong !== undefined)
      throw new Problem(
        422,
        'cannot-edit',
        `${wrong} is nobody who edits`,
        'Choose editors, releasers or administrators by their sign-in names.',
      );
    const sharedWith = found.filter((p) => p.id !== workspace.owner.id).map((p) => p.id);
    await this.workspaces.update(workspace.id, { sharedWithAll: all, sharedWith });
    await this.people.audit(me, 'workspace shared', slug, { all, names: found.map((p) => p.name) });
    return this.sharing({ ...workspace, sharedWithAll: all, sharedWith });
  }

  private async sharing({ owner, sharedWithAll, sharedWith }: Workspace): Promise<Sharing> {
    const persons = await this.people.acting('editor');
    return {
      all: sharedWithAll,
      people: persons
        .filter((p) => p.id !== owner.id)
        .map((p) => ({ name: p.name, displayName: p.displayName, isIn: sharedWith.includes(p.id) })),
    };
  }
}

@Injectable()
export class EditGuard implements CanActivate {
  constructor(private readonly sharing: SharingService) {}

  async canActivate(context: ExecutionContext): Promise<boolean> {
    const { person, params } = context.switchToHttp().getRequest<SignedInRequest>();
    await this.sharing.refuseUnshared(person!, params['slug'] as string);
    return true;
  }
}

/** A route that changes the workspace in its address, or runs something in it: for editors with whom that is shared. */
export const Edits = () => applyDecorators(Needs('editor'), UseGuards(EditGuard));
