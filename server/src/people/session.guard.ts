import { Injectable, type CanActivate, type ExecutionContext } from '@nestjs/common';
import { Reflector } from '@nestjs/core';
import type { Request } from 'express';
import { Problem } from '../shared/problem.js';
import { sameText } from '../shared/secret.js';
import { mayAct, NEEDS, PUBLIC, type SignedInRequest } from './access.js';
import type { PersonRole } from './people.entities.js';
import { PeopleService } from './people.service.js';

export const COOKIE = 'ouvrage_session';

/** The token of the request's cookie; a cookie of another form is none. */
export function sessionToken({ cookies }: Request): string | undefined {
  const token = (cookies as Record<string, unknown> | undefined)?.[COOKIE];
  return typeof token === 'string' ? token : undefined;
}

/**
 * Guards every route: a session, the role that the route needs, and for whatever changes something
 * the session's own token in a header, which another site cannot send.
 */
@Injectable()
export class SessionGuard implements CanActivate {
  constructor(
    private readonly reflector: Reflector,
    private readonly people: PeopleService,
  ) {}

  async canActivate(context: ExecutionContext): Promise<boolean> {
    const places = [context.getHandler(), context.getClass()];
    if (this.reflector.getAllAndOverride<boolean>(PUBLIC, places)) return true;
    const request = context.switchToHttp().getRequest<SignedInRequest>();
    const token = sessionToken(request);
    const session = token ? await this.people.session(token) : undefined;
    if (!session) throw new Problem(401, 'sign-in', 'Sign in first');
    if (!['GET', 'HEAD'].includes(request.method) && !sameText(request.get('x-csrf-token') ?? '', session.csrf)) {
      throw new Problem(
        403,
        'csrf',
        'The request does not come from this application',
        'Reload the page and try again.',
      );
    }
    const needed = this.reflector.getAllAndOverride<PersonRole | undefined>(NEEDS, places) ?? 'viewer';
    if (!mayAct(session.person.role, needed)) {
      throw new Problem(
        403,
        'not-allowed',
        `This needs the role ${needed}`,
        `You are signed in as ${session.person.displayName}, ${session.person.role}.`,
      );
    }
    request.person = session.person;
    return true;
  }
}
