import { useSessionQuery } from './people';
import type { Person } from '@ouvrage/api/people';
export const PRODUCTION = 'production';

export function usePerson(): Person {
  return useSessionQuery().data!.person!;
}

const ROLES: readonly Person['role'][] = ['viewer', 'editor', 'releaser', 'administrator'];

export const mayAct = (person: Person, role: Person['role']) => ROLES.indexOf(person.role) >= ROLES.indexOf(role);
