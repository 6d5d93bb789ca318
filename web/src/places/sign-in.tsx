import type { ProblemBody } from '@ouvrage/api/problem';
import { useSignInMutation } from '../data/people';
import { Door, DoorForm, NAME, PASSWORD } from './door';

const FIELDS = [NAME, PASSWORD] as const;

export function SignIn() {
  const [signIn, { error, isLoading }] = useSignInMutation();
  return (
    <Door does="sign in">
      <DoorForm
        fields={FIELDS}
        action="Sign in"
        isBusy={isLoading}
        problem={error as ProblemBody | undefined}
        onSubmit={(values) => void signIn(values)}
      />
    </Door>
  );
}
