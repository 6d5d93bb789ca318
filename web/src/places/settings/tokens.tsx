import type { AccessToken, TokenRight } from '@ouvrage/api/people';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { useCreateTokenMutation, useDeleteTokenMutation, useTokensQuery } from '../../data/people';
import { usePerson } from '../../data/person';
import { useProject } from '../../data/project';
import { present } from '../../data/time';
import { isFilled } from '../../shared/filled';
import { ago, moment } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { ConfirmDestroy } from '../../shared/ui/confirm-destroy';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Field } from '../../shared/ui/field';
import { inputClass } from '../../shared/ui/input';
import { SectionTitle } from '../../shared/ui/section-title';

/** What each right is for, as the command line and git need it. */
const RIGHTS: readonly { readonly right: TokenRight; readonly says: string }[] = [
  { right: 'read', says: 'read everything you may, and clone' },
  { right: 'write', says: 'save drafts, commit and push' },
  { right: 'run', says: 'load, check and bring in' },
  { right: 'release', says: 'release what has been reviewed' },
  { right: 'consent', says: 'agree to what a release drops' },
];
const USUAL_DAYS = 90;
const MOST_DAYS = 365;

/** Access tokens: with one of them a person's own git or a program reaches the project, for as long as it lasts. */
export function Tokens() {
  const person = usePerson();
  const { slug } = useProject();
  const { data: tokens = [] } = useTokensQuery();
  const [remove] = useDeleteTokenMutation();
  const [removing, setRemoving] = useState<AccessToken>();
  const tell = useTell();
  const clone = `git clone ${location.protocol}//${person.name}@${location.host}/git/project.git`;
  return (
    <section className="flex flex-col gap-3">
      <SectionTitle aside="your name, and a token as the password">The project in your own git</SectionTitle>
      <pre className="overflow-x-auto border border-line bg-raised p-2 font-mono text-small">{`${clone}\ngit push origin HEAD:workspace/${slug === 'production' ? 'NAME' : slug}`}</pre>
      <SectionTitle>Access tokens</SectionTitle>
      <TokenForm />
      {tokens.length > 0 ? (
        <DataTable label="Access tokens" columns={columnsOf(setRemoving)} rows={tokens} keyOf={(t) => t.id} />
      ) : (
        <p className="text-soft">You have no tokens.</p>
      )}
      <ConfirmDestroy
        title="Delete the token?"
        what={<p>Whatever uses “{removing?.label}” can no longer reach the project.</p>}
        action="Delete the token"
        open={removing !== undefined}
        onClose={() => setRemoving(undefined)}
        onConfirm={() => removing && void remove(removing.id).unwrap().catch(tell.problem)}
      />
    </section>
  );
}

const hasEnded = ({ expiresAt }: AccessToken): boolean => new Date(expiresAt).getTime() <= present();

const columnsOf = (onDelete: (token: AccessToken) => void): readonly DataColumn<AccessToken>[] => [
  { id: 'name', look: 'font-medium', sortBy: (t) => t.label, cell: (t) => t.label },
  { id: 'may', cell: (t) => t.rights.join(', ') },
  { id: 'made', sortBy: (t) => t.createdAt, cell: (t) => ago(t.createdAt) },
  { id: 'used', sortBy: (t) => t.lastUsedAt ?? '', cell: (t) => ago(t.lastUsedAt) },
  {
    id: 'ends',
    sortBy: (t) => t.expiresAt,
    cell: (t) => (hasEnded(t) ? <span className="text-broken">ended {ago(t.expiresAt)}</span> : moment(t.expiresAt)),
  },
  {
    id: 'delete',
    isSilent: true,
    cell: (t) => (
      <Button tone="quiet" onClick={() => onDelete(t)}>
        Delete
      </Button>
    ),
  },
];

interface Fields {
  readonly label: string;
  readonly rights: TokenRight[];
  readonly days: string;
}

function TokenForm() {
  const [create, { data: made, isLoading }] = useCreateTokenMutation();
  const { register, handleSubmit, reset, formState } = useForm<Fields>({
    mode: 'onChange',
    defaultValues: { label: '', rights: ['read', 'write'], days: String(USUAL_DAYS) },
  });
  const tell = useTell();
  const submit = ({ label, rights, days }: Fields) =>
    create({ label: label.trim(), rights, days: Number(days) })
      .unwrap()
      .then(() => reset())
      .catch(tell.problem);
  const { errors } = formState;
  return (
    <form className="flex max-w-150 flex-col gap-2" onSubmit={(e) => void handleSubmit(submit)(e)}>
      <div className="flex items-start gap-3">
        <div className="flex-1">
          <Field label="What the token is for" error={undefined}>
            {(field) => (
              <input {...field} maxLength={100} className={inputClass} {...register('label', { validate: isFilled })} />
            )}
          </Field>
        </div>
        <Field label="Days until it ends" error={errors.days?.message}>
          {(field) => (
            <input
              {...field}
              inputMode="numeric"
              className={inputClass}
              {...register('days', {
                validate: (text) =>
                  (/^[1-9]\d{0,2}$/.test(text.trim()) && Number(text) <= MOST_DAYS) ||
                  `Enter a whole number from 1 to ${MOST_DAYS}`,
              })}
            />
          )}
        </Field>
      </div>
      <fieldset className="flex flex-col gap-1">
        <legend className="caps mb-1">It may</legend>
        {RIGHTS.map(({ right, says }) => (
          <label key={right} className="flex min-h-6 items-center gap-2">
            <input
              type="checkbox"
              value={right}
              {...register('rights', { validate: (rights) => rights.length > 0 || 'Choose at least one right' })}
            />
            <span className="font-mono text-small">{right}</span> <span className="text-soft">{says}</span>
          </label>
        ))}
        {errors.rights && <p className="text-broken">{errors.rights.message}</p>}
      </fieldset>
      <p className="text-small text-soft">
        A token may no more than you may. None approves, overrides a review, or changes people, tokens or settings.
      </p>
      <div>
        <Button type="submit" tone="act" disabled={!formState.isValid || isLoading}>
          Create token
        </Button>
      </div>
      {made && (
        <p role="status" className="border-l-3 border-holds bg-raised px-3 py-2">
          Copy it now; it will not be shown again:{' '}
          <code className="font-mono text-small break-all select-all">{made.token}</code>
        </p>
      )}
    </form>
  );
}
