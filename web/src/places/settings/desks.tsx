import { useState } from 'react';
import { useForm } from 'react-hook-form';
import type { Desk, Receivers } from '@ouvrage/api/message';
import type { ProblemBody } from '@ouvrage/api/problem';
import {
  useDeleteDeskMutation,
  useReceiversQuery,
  useSaveDeskMutation,
  useSaveMailMutation,
} from '../../data/messages';
import { usePerson, whyNot } from '../../data/person';
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

/** Desks that own tables, and where people get mail. */
export function Desks() {
  const person = usePerson();
  const { data, error } = useReceiversQuery();
  const [editing, setEditing] = useState<Desk | 'new'>();
  const reason = whyNot(person, 'administrator', 'change desks');
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  if (!data) return <Loading what="Reading desks" />;
  const nameOf = (name: string) => data.people.find((p) => p.name === name)?.displayName ?? name;
  const columns: readonly DataColumn<Desk>[] = [
    {
      id: 'desk',
      sortBy: (d) => d.name,
      cell: (d) =>
        reason ? (
          d.name
        ) : (
          <button
            type="button"
            className="font-medium text-plan underline underline-offset-2"
            onClick={() => setEditing(d)}
          >
            {d.name}
          </button>
        ),
    },
    { id: 'members', cell: (d) => d.members.map(nameOf).join(', ') || '–' },
    ...(reason
      ? []
      : [
          { id: 'mail', cell: (d: Desk) => d.mail ?? '–' },
          { id: 'webhook', look: 'font-mono text-small break-all', cell: (d: Desk) => d.webhook ?? '–' },
        ]),
  ];
  return (
    <>
      <section className="flex flex-col gap-2">
        <SectionTitle>Desks</SectionTitle>
        <p className="max-w-150 text-soft">
          A desk is named as the owner of tables. What concerns them is sent to its members, its mail address and its
          webhook.
        </p>
        {data.desks.length > 0 && <DataTable columns={columns} rows={data.desks} keyOf={(d) => d.id} label="Desks" />}
        <div>
          <Button {...(reason ? { reason } : {})} onClick={() => setEditing('new')}>
            New desk
          </Button>
        </div>
        {data.unknown.map(({ owner, tables, nearest }) => (
          <p key={owner} className="max-w-150 border-l-3 border-advisory bg-raised px-3 py-1.5">
            {owner} owns {tables.slice(0, 3).join(', ')}
            {tables.length > 3 && ` and ${tables.length - 3} more`}, but is neither a desk nor a person
            {nearest !== null && `: did you mean ${nearest}?`}
          </p>
        ))}
      </section>
      {!reason && <Addresses people={data.people} />}
      {editing && (
        <DeskForm
          desk={editing === 'new' ? undefined : editing}
          people={data.people}
          onClose={() => setEditing(undefined)}
        />
      )}
    </>
  );
}

interface Fields {
  readonly name: string;
  readonly members: string[];
  readonly mail: string;
  readonly webhook: string;
}

function DeskForm({
  desk,
  people,
  onClose,
}: {
  desk: Desk | undefined;
  people: Receivers['people'];
  onClose: () => void;
}) {
  const { register, handleSubmit, formState } = useForm<Fields>({
    mode: 'onChange',
    defaultValues: {
      name: desk?.name ?? '',
      members: [...(desk?.members ?? [])],
      mail: desk?.mail ?? '',
      webhook: desk?.webhook ?? '',
    },
  });
  const [save, { data: saved, error, isLoading }] = useSaveDeskMutation();
  const [remove] = useDeleteDeskMutation();
  const [deleting, setDeleting] = useState(false);
  const tell = useTell();
  const submit = ({ name, members, mail, webhook }: Fields) =>
    save({
      ...(desk ? { id: desk.id } : {}),
      name: name.trim(),
      // One box alone gives its value instead of a list.
      members: [members || []].flat(),
      mail: mail.trim() || null,
      webhook: webhook.trim() || null,
    })
      .unwrap()
      .then(({ secret }) => secret === null && onClose())
      .catch(() => undefined);
  if (saved?.secret)
    return (
      <Modal title="The webhook’s secret" open onClose={onClose}>
        <p role="status" className="border-l-3 border-holds bg-raised px-3 py-2">
          Copy it now; it will not be shown again:{' '}
          <code className="font-mono text-small break-all select-all">{saved.secret}</code>
        </p>
        <p className="py-2 text-soft">
          Each message bears ouvrage-delivery, ouvrage-time and ouvrage-signature: the HMAC-SHA-256 of id, time and
          body, a line each, in hexadecimal digits.
        </p>
        <div className="flex justify-end">
          <Button tone="act" onClick={onClose}>
            Done
          </Button>
        </div>
      </Modal>
    );
  return (
    <Modal title={desk ? `Desk ${desk.name}` : 'New desk'} open onClose={onClose}>
      <form className="flex flex-col gap-3" onSubmit={(e) => void handleSubmit(submit)(e)}>
        <Field label="Name, as contracts write it after owner" error={formState.errors.name?.message}>
          {(field) => <input {...field} className={inputClass} {...register('name', { required: 'Type a name' })} />}
        </Field>
        <fieldset className="flex flex-col gap-1">
          <legend>Members</legend>
          {people.map((p) => (
            <label key={p.name} className="flex items-center gap-2">
              <input type="checkbox" value={p.name} {...register('members')} /> {p.displayName}
            </label>
          ))}
        </fieldset>
        <Field label="Mail address" error={undefined}>
          {(field) => <input {...field} type="email" className={inputClass} {...register('mail')} />}
        </Field>
        <Field label="Webhook" error={undefined}>
          {(field) => (
            <input
              {...field}
              placeholder="https://desk.example/ouvrage"
              className={`${inputClass} font-mono`}
              {...register('webhook')}
            />
          )}
        </Field>
        {error && <ProblemNote problem={error as ProblemBody} />}
        <div className="flex gap-2">
          {desk && (
            <Button tone="danger" onClick={() => setDeleting(true)}>
              Delete
            </Button>
          )}
          <span className="flex-1" />
          <Button onClick={onClose}>Cancel</Button>
          <Button tone="act" type="submit" disabled={!formState.isValid || isLoading}>
            Save
          </Button>
        </div>
      </form>
      {desk && (
        <ConfirmDestroy
          title={`Delete ${desk.name}?`}
          what={<p>This desk no longer notifies anyone. Tables keep it as their owner.</p>}
          action="Delete desk"
          open={deleting}
          onClose={() => setDeleting(false)}
          onConfirm={() => void remove(desk.id).unwrap().then(onClose, tell.problem)}
        />
      )}
    </Modal>
  );
}

function Addresses({ people }: { people: Receivers['people'] }) {
  return (
    <section className="flex max-w-150 flex-col gap-2">
      <SectionTitle>Mail addresses</SectionTitle>
      <ul className="border-t border-line">
        {people.map((p) => (
          <Address key={p.name} {...p} />
        ))}
      </ul>
    </section>
  );
}

function Address({ name, displayName, mail }: Receivers['people'][number]) {
  const { register, handleSubmit, formState } = useForm({ values: { mail: mail ?? '' } });
  const [save, { isLoading }] = useSaveMailMutation();
  const tell = useTell();
  const submit = (fields: { mail: string }) =>
    save({ name, mail: fields.mail.trim() || null })
      .unwrap()
      .then(() => tell.say('Saved', displayName))
      .catch(tell.problem);
  return (
    <li className="border-b border-line py-1">
      <form className="flex items-center gap-3" onSubmit={(e) => void handleSubmit(submit)(e)}>
        <span className="w-40 shrink-0 truncate">{displayName}</span>
        <input
          aria-label={`Mail address of ${displayName}`}
          type="email"
          className={inputClass}
          {...register('mail')}
        />
        <Button tone="quiet" type="submit" disabled={!formState.isDirty || isLoading}>
          Save
        </Button>
      </form>
    </li>
  );
}
