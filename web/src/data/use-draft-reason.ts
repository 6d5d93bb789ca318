import { usePerson, whyNot } from './person';
import { useProject } from './project';

/** Why a person cannot change or run anything of this workspace, whatever their role; undefined where they can. */
export function useKeptReason(): string | undefined {
  const { name, keptBy } = useProject();
  return keptBy === null ? undefined : `${name} is not shared with you: ask ${keptBy}.`;
}

/** Why a person cannot write drafts here, if so. @param what they cannot do */
export function useDraftReason(what = 'change the project'): string | undefined {
  const person = usePerson();
  const { isProduction } = useProject();
  const kept = useKeptReason();
  const reason = whyNot(person, 'editor', what) ?? kept;
  if (reason) return reason;
  return isProduction ? 'Production changes only through releases: open a workspace.' : undefined;
}

/** Why a person cannot run tables here, if so. */
export function useRunReason(): string | undefined {
  const person = usePerson();
  const { isProduction } = useProject();
  const kept = useKeptReason();
  return isProduction
    ? whyNot(person, 'releaser', 'run in production')
    : (whyNot(person, 'editor', 'run tables') ?? kept);
}
