import { useSessionQuery } from './people';
import type { Person } from '@ouvrage/api/people';
export const PRODUCTION = 'production';

export function usePerson(): Person {
  return useSessionQuery().data!.person!;
}

const ROLES: readonly Person['role'][] = ['viewer', 'editor', 'releaser', 'administrator'];

/** Why a person may not do something, or nothing: `Only releasers can release; you are an editor.` */
export function whyNot(person: Person, role: Person['role'], what: string): string | undefined {
  if (mayAct(person, role)) return undefined;
  return `Only ${role}s can ${what}; you are ${/^[aeiou]/.test(person.role) ? 'an' : 'a'} ${person.role}.`;
}

export const mayAct = (person: Person, role: Person['role']) => ROLES.indexOf(person.role) >= ROLES.indexOf(role);
