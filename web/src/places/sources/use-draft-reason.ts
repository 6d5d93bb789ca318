import { mayAct, usePerson } from '../../data/person';
import { useProject } from '../../data/project';

/** Why a person cannot write drafts here, if so. */
export function useDraftReason(): string | undefined {
  const person = usePerson();
  const { isProduction } = useProject();
  if (!mayAct(person, 'editor')) return `Only editors can change the project; you are a ${person.role}.`;
  return isProduction ? 'Production changes by a release only: open a workspace.' : undefined;
}
