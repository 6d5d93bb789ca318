import { usePerson, whyNot } from './person';
import { useProject } from './project';

/** Why a person cannot write drafts here, if so. */
export function useDraftReason(): string | undefined {
  const person = usePerson();
  const { isProduction } = useProject();
  const reason = whyNot(person, 'editor', 'change the project');
  if (reason) return reason;
  return isProduction ? 'Production changes only through releases: open a workspace.' : undefined;
}
