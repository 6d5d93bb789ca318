import { createParamDecorator, SetMetadata, type ExecutionContext } from '@nestjs/common';
import type { Request } from 'express';
import { PERSON_ROLES, type Person, type PersonRole } from './people.entities.js';

/** Routes without a sign-in: only those that say so. */
export const PUBLIC = 'ouvrage:public';
export const Public = () => SetMetadata(PUBLIC, true);

/** The least role that a route needs; viewer where none is said. */
export const NEEDS = 'ouvrage:needs';
export const Needs = (role: PersonRole) => SetMetadata(NEEDS, role);

export interface SignedInRequest extends Request {
  person?: Person;
}

/** The person who is signed in. */
export const Me = createParamDecorator(
  (_: unknown, context: ExecutionContext): Person => context.switchToHttp().getRequest<SignedInRequest>().person!,
);

export function mayAct(role: PersonRole, needed: PersonRole): boolean {
  return PERSON_ROLES.indexOf(role) >= PERSON_ROLES.indexOf(needed);
}
