import { createParamDecorator, SetMetadata, type ExecutionContext } from '@nestjs/common';
import type { Request } from 'express';
import { PERSON_ROLES, type Person, type PersonRole } from './people.entities.js';

/** Routes without a sign-in: only those that say so. */
export const PUBLIC = 'ouvrage:public';
export const Public = () => SetMetadata(PUBLIC, true);

/** The least role that a route needs; viewer where none is said. */
export const NEEDS = 'ouvrage:needs';
export const Needs = (role: PersonRole) => SetMetadata(NEEDS, role);

/** What an access token may do beside what its owner may: each right is one that it has or lacks. */
export const TOKEN_RIGHTS = ['read', 'write', 'run', 'release', 'consent'] as const;
export type TokenRight = (typeof TOKEN_RIGHTS)[number];

/** The right with which a token opens a route. What only reads is opened by `read`; of all else only what says so. */
export const TOKEN_RIGHT = 'ouvrage:token-right';
export const ForTokens = (right: TokenRight) => SetMetadata(TOKEN_RIGHT, right);
/** No token opens it, though it only reads: it is a person's own, or a setting. */
export const NotForTokens = () => SetMetadata(TOKEN_RIGHT, 'never');

/** The right that a token needs for a route; undefined where no token opens it. */
export function rightFor(method: string, declared: TokenRight | 'never' | undefined): TokenRight | undefined {
  if (declared === 'never') return undefined;
  return declared ?? (['GET', 'HEAD'].includes(method) ? 'read' : undefined);
}

/** Routes that are open to somebody whose password an administrator gave, and who has not chosen one yet. */
export const WITH_GIVEN_PASSWORD = 'ouvrage:with-given-password';
export const WithGivenPassword = () => SetMetadata(WITH_GIVEN_PASSWORD, true);

export interface SignedInRequest extends Request {
  person?: Person;
  /** Of a request by token: what the token may. */
  tokenRights?: readonly TokenRight[];
}

/** What the token of a request may; undefined where a person is signed in. */
export const Rights = createParamDecorator(
  (_: unknown, context: ExecutionContext): readonly TokenRight[] | undefined =>
    context.switchToHttp().getRequest<SignedInRequest>().tokenRights,
);

/** The person who is signed in. */
export const Me = createParamDecorator(
  (_: unknown, context: ExecutionContext): Person => context.switchToHttp().getRequest<SignedInRequest>().person!,
);

export function mayAct(role: PersonRole, needed: PersonRole): boolean {
  return PERSON_ROLES.indexOf(role) >= PERSON_ROLES.indexOf(needed);
}
