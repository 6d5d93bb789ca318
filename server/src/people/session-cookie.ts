import type { SessionAnswer } from '@ouvrage/api/people';
import type { Request, Response } from 'express';
import type { Person, Session } from './people.entities.js';
import type { Origin } from './session.service.js';

export const COOKIE = 'ouvrage_session';

/** The token of the request's cookie; a cookie of another form is none. */
export function sessionToken({ cookies }: Request): string | undefined {
  const token = (cookies as Record<string, unknown> | undefined)?.[COOKIE];
  return typeof token === 'string' ? token : undefined;
}

/** From where somebody asks. */
export const originOf = (request: Request): Origin => ({
  address: request.ip ?? '',
  agent: request.get('user-agent') ?? '',
});

/** A session, as its person is told about it. */
export const sessionAnswer = ({ person, csrf }: Session): SessionAnswer => ({
  person: publicPerson(person),
  csrf,
  mustChange: person.mustChange,
  needsSetup: false,
});

/** Sets the cookie of a session that has just begun. @returns what its person is told */
export function begun(
  response: Response,
  { token, session }: { readonly token: string; readonly session: Session },
): SessionAnswer {
  response.cookie(COOKIE, token, { httpOnly: true, sameSite: 'strict', path: '/', expires: session.expiresAt });
  return sessionAnswer(session);
}

const publicPerson = ({ name, displayName, role }: Person) => ({ name, displayName, role });
