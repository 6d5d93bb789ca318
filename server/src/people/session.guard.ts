import { Injectable, type CanActivate, type ExecutionContext } from '@nestjs/common';
import { Reflector } from '@nestjs/core';
import type { Request } from 'express';
import { Problem } from '../shared/problem.js';
import { sameText } from '../shared/secret.js';
import {
  mayAct,
  NEEDS,
  PUBLIC,
  rightFor,
  type SignedInRequest,
  TOKEN_RIGHT,
  type TokenRight,
  WITH_GIVEN_PASSWORD,
} from './access.js';
import type { Person, PersonRole } from './people.entities.js';
import { PeopleService } from './people.service.js';
import { sessionToken } from './session-cookie.js';
import { SessionService } from './session.service.js';

type Places = Parameters<Reflector['getAllAndOverride']>[1];

/** The token of a request's `Authorization: Bearer`. */
function bearer(request: Request): string | undefined {
  return /^Bearer +(\S+) *$/i.exec(request.get('authorization') ?? '')?.[1];
}

/** Somebody has a password that an administrator gave, which opens nothing but its own change. */
export const choosePassword = () =>
  new Problem(
    403,
    'choose-password',
    'Choose a password of your own first',
    'The one that you were given is for that alone.',
  );

/**
 * Guards every route: a session or a token with the right that the route needs, the role that the route needs, and for whatever changes something
 * the session's own token in a header, which another site cannot send.
 */
@Injectable()
export class SessionGuard implements CanActivate {
  constructor(
    private readonly reflector: Reflector,
    private readonly people: PeopleService,
    private readonly sessions: SessionService,
  ) {}

  async canActivate(context: ExecutionContext): Promise<boolean> {
    const places = [context.getHandler(), context.getClass()];
    if (this.reflector.getAllAndOverride<boolean>(PUBLIC, places)) return true;
    const request = context.switchToHttp().getRequest<SignedInRequest>();
    const given = bearer(request);
    const person =
      given === undefined ? await this.ofSession(request, places) : await this.ofToken(request, given, places);
    const needed = this.reflector.getAllAndOverride<PersonRole | undefined>(NEEDS, places) ?? 'viewer';
    if (!mayAct(person.role, needed)) {
      throw new Problem(
        403,
        'not-allowed',
        `This needs the role ${needed}`,
        `You are signed in as ${person.displayName}, ${person.role}.`,
      );
    }
    request.person = person;
    return true;
  }

  private async ofSession(request: Request, places: Places): Promise<Person> {
    const token = sessionToken(request);
    const session = token ? await this.sessions.of(token) : undefined;
    if (!session) throw new Problem(401, 'sign-in', 'Sign in first');
    if (!['GET', 'HEAD'].includes(request.method) && !sameText(request.get('x-csrf-token') ?? '', session.csrf)) {
      throw new Problem(
        403,
        'csrf',
        'The request does not come from this application',
        'Reload the page and try again.',
      );
    }
    if (session.person.mustChange && !this.reflector.getAllAndOverride<boolean>(WITH_GIVEN_PASSWORD, places))
      throw choosePassword();
    await this.sessions.used(session);
    return session.person;
  }

  /** Who a token belongs to; no cookie is sent with it, so that another site cannot use it. */
  private async ofToken(request: SignedInRequest, given: string, places: Places): Promise<Person> {
    // Of 256 random bits nobody guesses one: attempts are not slowed down, which would hold up other tokens of an address.
    const token = await this.people.useToken(given);
    if (!token)
      throw new Problem(401, 'token', 'The access token is unknown or has ended', 'Make another one under Settings.');
    const declared = this.reflector.getAllAndOverride<TokenRight | 'never' | undefined>(TOKEN_RIGHT, places);
    const right = rightFor(request.method, declared);
    if (right === undefined)
      throw new Problem(403, 'not-for-tokens', 'No access token may do this', 'Sign in and do it yourself.');
    if (!token.rights.includes(right))
      throw new Problem(
        403,
        'token-right',
        `The access token lacks the right ${right}`,
        `It may ${token.rights.join(', ')}. Make one with more rights under Settings.`,
      );
    request.tokenRights = token.rights;
    return token.person;
  }
}
