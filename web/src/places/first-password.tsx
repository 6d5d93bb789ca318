import type { ProblemBody } from '@ouvrage/api/problem';
import {
  useChangePasswordMutation,
  useLinkOwnerQuery,
  useSetUpMutation,
  useSignOutMutation,
  useUseLinkMutation,
} from '../data/people';
import { usePerson } from '../data/person';
import { Button } from '../shared/ui/button';
import { Loading } from '../shared/ui/loading';
import { ProblemNote } from '../shared/ui/problem-note';
import { AGAIN, Door, DoorForm, NAME, NEW_PASSWORD, PASSWORD } from './door';

const SETUP = [
  { name: 'code', label: 'Setup code', missing: 'Type the setup code', type: 'text', autoComplete: 'off' },
  { ...NAME, label: 'Name to sign in with, in small letters', missing: 'Choose a name' },
  {
    name: 'displayName',
    label: 'Your name, as it appears in commits',
    missing: 'Type your name',
    type: 'text',
    autoComplete: 'name',
  },
  NEW_PASSWORD,
  AGAIN,
] as const;
const CHOSEN = [NEW_PASSWORD, AGAIN] as const;
const CHANGED = [
  { ...PASSWORD, name: 'present', label: 'The password you were given', missing: 'Type the password you were given' },
  NEW_PASSWORD,
  AGAIN,
] as const;

/** The first page of an installation at which nobody has been yet: it makes the first administrator. */
export function FirstStart() {
  const [setUp, { error, isLoading }] = useSetUpMutation();
  return (
    <Door does="first start">
      <p className="text-soft">
        You become the administrator. The command that started Ouvrage has printed the setup code.
      </p>
      <DoorForm
        fields={SETUP}
        action="Start"
        isBusy={isLoading}
        problem={error as ProblemBody | undefined}
        onSubmit={({ code, name, displayName, password }) =>
          void setUp({ code: code.trim(), name: name.trim(), displayName: displayName.trim(), password })
        }
      />
    </Door>
  );
}

/** Where a link leads that an administrator has handed over. */
export function ChooseByLink({ link, onDone }: { readonly link: string; readonly onDone: () => void }) {
  const { data: owner, error, isLoading } = useLinkOwnerQuery(link, { skip: link === '' });
  const [choose, { error: refused, isLoading: isChoosing, isSuccess }] = useUseLinkMutation();
  if (isLoading) return <Loading what="Looking at the link" />;
  return (
    <Door does="choose a password">
      {owner && !isSuccess ? (
        <>
          <p>
            {owner.displayName}, you sign in with the name <b className="font-mono">{owner.name}</b> and a password that
            you choose now.
          </p>
          <DoorForm
            fields={CHOSEN}
            action="Choose it and sign in"
            isBusy={isChoosing}
            problem={refused as ProblemBody | undefined}
            onSubmit={({ password }) =>
              void choose({ link, password })
                .unwrap()
                .then(onDone, () => undefined)
            }
          />
        </>
      ) : (
        <>
          <ProblemNote
            problem={
              (error as ProblemBody | undefined) ?? {
                code: 'wrong-link',
                status: 404,
                title: 'This link is not complete',
                detail: 'Open it as it was sent to you.',
              }
            }
          />
          <Button onClick={onDone}>Sign in</Button>
        </>
      )}
    </Door>
  );
}

/** What somebody sees whose password an administrator gave them, before anything else. */
export function ChooseOwn() {
  const person = usePerson();
  const [change, { error, isLoading }] = useChangePasswordMutation();
  const [signOut] = useSignOutMutation();
  return (
    <Door does="choose a password">
      <p>{person.displayName}, choose a password that only you know.</p>
      <DoorForm
        fields={CHANGED}
        action="Change it"
        isBusy={isLoading}
        problem={error as ProblemBody | undefined}
        onSubmit={({ present, password }) => void change({ present, password })}
      />
      <Button tone="quiet" onClick={() => void signOut()}>
        Sign out
      </Button>
    </Door>
  );
}
