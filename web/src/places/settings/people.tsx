import type { Account, Issued, Person } from '@ouvrage/api/people';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import {
  useAddPersonMutation,
  useChangePersonMutation,
  usePeopleQuery,
  useResetPersonMutation,
} from '../../data/people';
import { usePerson } from '../../data/person';
import { isFilled } from '../../shared/filled';
import { moment } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { ConfirmDestroy } from '../../shared/ui/confirm-destroy';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Field } from '../../shared/ui/field';
import { inputClass } from '../../shared/ui/input';
import { Loading } from '../../shared/ui/loading';
import { Modal } from '../../shared/ui/modal';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';
import { SessionEnds } from './session-ends';

/** What each role may beside what the one before it may. */
const ROLES: readonly { readonly role: Person['role']; readonly says: string }[] = [
  { role: 'viewer', says: 'read all but sensitive columns' },
  { role: 'editor', says: 'work in workspaces, see sensitive columns, approve' },
  { role: 'releaser', says: 'release, and run production' },
  { role: 'administrator', says: 'people, connections and settings' },
];
const STATES: Readonly<Record<Account['state'], string>> = {
  active: 'can sign in',
  'link issued': 'has not used the link yet',
  'password issued': 'has not chosen a password yet',
  disabled: 'disabled',
};

/** Who may sign in, and what they may do. */
export function People() {
  const me = usePerson();
  const { data, error, refetch } = usePeopleQuery();
  const [chosen, setChosen] = useState<Account | 'new'>();
  if (error) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  if (!data) return <Loading what="Reading people" />;
  return (
    <>
      <section className="flex flex-col gap-3">
        <SectionTitle>People</SectionTitle>
        <DataTable label="People" columns={columnsOf(setChosen)} rows={data} keyOf={(p) => p.name} />
        <div>
          <Button tone="act" onClick={() => setChosen('new')}>
            Add a person
          </Button>
        </div>
      </section>
      <SessionEnds />
      {chosen === 'new' && <NewPerson onClose={() => setChosen(undefined)} />}
      {chosen !== undefined && chosen !== 'new' && (
        <OnePerson person={chosen} isMe={chosen.name === me.name} onClose={() => setChosen(undefined)} />
      )}
    </>
  );
}

const columnsOf = (onChoose: (person: Account) => void): readonly DataColumn<Account>[] => [
  {
    id: 'person',
    sortBy: (p) => p.displayName,
    cell: (p) => (
      <button type="button" className="font-medium text-plan underline underline-offset-2" onClick={() => onChoose(p)}>
        {p.displayName}
      </button>
    ),
  },
  { id: 'signs in as', look: 'font-mono text-small', sortBy: (p) => p.name, cell: (p) => p.name },
  { id: 'role', sortBy: (p) => ROLES.findIndex((r) => r.role === p.role), cell: (p) => p.role },
  {
    id: 'state',
    sortBy: (p) => p.state,
    cell: (p) => (
      <span className={p.state === 'active' ? '' : p.state === 'disabled' ? 'text-soft' : 'text-advisory-text'}>
        {STATES[p.state]}
        {p.state === 'link issued' && p.linkEndsAt && `, good until ${moment(p.linkEndsAt)}`}
      </span>
    ),
  },
  {
    id: 'last sign-in',
    sortBy: (p) => p.lastSignInAt ?? '',
    cell: (p) => (p.lastSignInAt ? moment(p.lastSignInAt) : 'never'),
  },
];

function RoleChoice({
  value,
  onChoose,
}: {
  readonly value: Person['role'];
  readonly onChoose: (role: Person['role']) => void;
}) {
  return (
    <fieldset className="flex flex-col gap-1">
      <legend className="caps mb-1">Role</legend>
      {ROLES.map(({ role, says }) => (
        <label key={role} className="flex min-h-6 items-center gap-2">
          <input type="radio" name="role" checked={value === role} onChange={() => onChoose(role)} />
          <span className="font-medium">{role}</span> <span className="text-soft">{says}</span>
        </label>
      ))}
    </fieldset>
  );
}

/** How somebody comes to a password of their own. */
function IssueChoice({
  value,
  onChoose,
}: {
  readonly value: Issued['kind'];
  readonly onChoose: (issue: Issued['kind']) => void;
}) {
  return (
    <fieldset className="flex flex-col gap-1">
      <legend className="caps mb-1">They choose their password with</legend>
      {(
        [
          ['link', 'a link, good once and for seven days'],
          ['password', 'a first password, which they have to change'],
        ] as const
      ).map(([issue, says]) => (
        <label key={issue} className="flex min-h-6 items-center gap-2">
          <input type="radio" name="issue" checked={value === issue} onChange={() => onChoose(issue)} /> {says}
        </label>
      ))}
    </fieldset>
  );
}

/** What has been issued; it is shown this once. */
function Shown({ issued, name }: { readonly issued: Issued; readonly name: string }) {
  const tell = useTell();
  const text = issued.kind === 'link' ? `${location.origin}/welcome#${issued.secret}` : issued.secret;
  return (
    <div role="status" className="border-l-3 border-holds bg-raised px-3 py-2">
      <p>
        Hand this {issued.kind} to {name} yourself; it will not be shown again.
        {issued.endsAt && ` It is good until ${moment(issued.endsAt)}.`}
      </p>
      <code className="font-mono text-small break-all select-all">{text}</code>
      <div className="pt-2">
        <Button
          onClick={() =>
            void navigator.clipboard.writeText(text).then(
              () => tell.say('Copied'),
              () => tell.say('The browser did not copy it', 'Select the text and copy it yourself.'),
            )
          }
        >
          Copy
        </Button>
      </div>
    </div>
  );
}

function NewPerson({ onClose }: { readonly onClose: () => void }) {
  const [add, { data: issued, error, isLoading }] = useAddPersonMutation();
  const [role, setRole] = useState<Person['role']>('editor');
  const [issue, setIssue] = useState<Issued['kind']>('link');
  const { register, handleSubmit, formState, getValues } = useForm({
    mode: 'onTouched',
    defaultValues: { displayName: '', name: '' },
  });
  const submit = ({ displayName, name }: { displayName: string; name: string }) =>
    void add({ displayName: displayName.trim(), name: name.trim(), role, issue });
  return (
    <Modal title="Add a person" open onClose={onClose}>
      {issued ? (
        <div className="flex flex-col gap-3">
          <Shown issued={issued} name={getValues('displayName')} />
          <div className="flex justify-end">
            <Button onClick={onClose}>Close</Button>
          </div>
        </div>
      ) : (
        <form className="flex flex-col gap-3" onSubmit={(e) => void handleSubmit(submit)(e)}>
          <Field label="Name, as it appears in commits" error={formState.errors.displayName?.message}>
            {(field) => (
              <input
                {...field}
                maxLength={100}
                autoFocus
                className={inputClass}
                {...register('displayName', { validate: isFilled })}
              />
            )}
          </Field>
          <Field label="Name to sign in with" error={formState.errors.name?.message}>
            {(field) => (
              <input
                {...field}
                maxLength={40}
                className={`${inputClass} font-mono`}
                {...register('name', {
                  validate: (text) =>
                    /^[a-z][a-z0-9._-]*$/.test(text.trim()) ||
                    'Use small letters, digits, points and dashes, beginning with a letter',
                })}
              />
            )}
          </Field>
          <RoleChoice value={role} onChoose={setRole} />
          <IssueChoice value={issue} onChoose={setIssue} />
          {error && <ProblemNote problem={error as ProblemBody} />}
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>Cancel</Button>
            <Button tone="act" type="submit" disabled={isLoading}>
              Add
            </Button>
          </div>
        </form>
      )}
    </Modal>
  );
}

function OnePerson({
  person,
  isMe,
  onClose,
}: {
  readonly person: Account;
  readonly isMe: boolean;
  readonly onClose: () => void;
}) {
  const [change, { error, isLoading }] = useChangePersonMutation();
  const [reset, { data: issued, error: refused, isLoading: isResetting }] = useResetPersonMutation();
  const [role, setRole] = useState(person.role);
  const [displayName, setDisplayName] = useState(person.displayName);
  const [issue, setIssue] = useState<Issued['kind']>('link');
  const [disabling, setDisabling] = useState(false);
  const tell = useTell();
  const isDisabled = person.state === 'disabled';
  const save = (disabled: boolean) =>
    void change({ name: person.name, displayName: displayName.trim(), role, disabled })
      .unwrap()
      .then(
        () => {
          tell.say('Saved', disabled ? `${displayName} may not sign in any more` : `${displayName}, ${role}`);
          onClose();
        },
        () => setDisabling(false),
      );
  return (
    <Modal title={person.displayName} open onClose={onClose}>
      <div className="flex flex-col gap-3">
        <Field label="Name, as it appears in commits" error={displayName.trim() === '' ? 'Fill this in' : undefined}>
          {(field) => (
            <input
              {...field}
              maxLength={100}
              value={displayName}
              onChange={(e) => setDisplayName(e.target.value)}
              className={inputClass}
            />
          )}
        </Field>
        <RoleChoice value={role} onChoose={setRole} />
        {error && <ProblemNote problem={error as ProblemBody} />}
        <div className="flex gap-2">
          <Button
            tone="act"
            disabled={
              isLoading ||
              displayName.trim() === '' ||
              (role === person.role && displayName.trim() === person.displayName)
            }
            onClick={() => save(isDisabled)}
          >
            Save
          </Button>
          {isDisabled ? (
            <Button disabled={isLoading} onClick={() => save(false)}>
              Let them sign in again
            </Button>
          ) : (
            <Button
              tone="danger"
              {...(isMe ? { reason: 'You cannot disable yourself; another administrator can.' } : {})}
              onClick={() => setDisabling(true)}
            >
              Disable
            </Button>
          )}
        </div>
        {!isDisabled && (
          <section className="flex flex-col gap-2 border-t border-line pt-3">
            <h3 className="font-medium">A new password</h3>
            <p className="text-soft">
              For somebody who has forgotten theirs or lost the link. The present password stops working, and{' '}
              {isMe ? 'you are' : 'they are'} signed out.
            </p>
            <IssueChoice value={issue} onChoose={setIssue} />
            {refused && <ProblemNote problem={refused as ProblemBody} />}
            {issued ? (
              <Shown issued={issued} name={person.displayName} />
            ) : (
              <div>
                <Button
                  disabled={isResetting}
                  {...(isMe ? { reason: 'You change your own password under Settings, You.' } : {})}
                  onClick={() => void reset({ name: person.name, issue })}
                >
                  Reset the password
                </Button>
              </div>
            )}
          </section>
        )}
      </div>
      <ConfirmDestroy
        title={`Disable ${person.displayName}?`}
        what={
          <p>
            They are signed out at once, and their tokens stop working. What they have written, their workspaces and
            their approvals stay. They can be let in again.
          </p>
        }
        action="Disable"
        open={disabling}
        onClose={() => setDisabling(false)}
        onConfirm={() => save(true)}
      />
    </Modal>
  );
}
