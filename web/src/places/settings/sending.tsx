import { useForm } from 'react-hook-form';
import type { SendingEntry, SendingSettings } from '@ouvrage/api/message';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useSaveSendingMutation, useSendAgainMutation, useSendingQuery, useSendingsQuery } from '../../data/messages';
import { moment } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Field } from '../../shared/ui/field';
import { inputClass } from '../../shared/ui/input';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';

/** How messages leave, and what became of them. */
export function Sending() {
  const { data, error } = useSendingQuery();
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  if (!data) return <Loading what="Reading settings" />;
  return (
    <>
      <SendingForm settings={data} />
      <Log />
    </>
  );
}

interface Fields {
  readonly publicAddress: string;
  readonly ranges: string;
  readonly host: string;
  readonly port: string;
  readonly tls: 'off' | 'starttls' | 'tls';
  readonly user: string;
  readonly password: string;
  readonly from: string;
}

function SendingForm({ settings: { publicAddress, mail, ranges } }: { settings: SendingSettings }) {
  const { register, handleSubmit, watch, formState } = useForm<Fields>({
    values: {
      publicAddress,
      ranges: ranges.join(', '),
      host: mail?.host ?? '',
      port: String(mail?.port ?? 587),
      tls: mail?.tls ?? 'starttls',
      user: mail?.user ?? '',
      password: '',
      from: mail?.from ?? '',
    },
  });
  const [save, { error, isLoading }] = useSaveSendingMutation();
  const tell = useTell();
  const hasMail = watch('host').trim() !== '';
  const submit = (f: Fields) =>
    save({
      publicAddress: f.publicAddress.trim(),
      ranges: f.ranges.split(',').flatMap((r) => r.trim() || []),
      mail: f.host.trim()
        ? {
            host: f.host.trim(),
            port: Number(f.port),
            tls: f.tls,
            user: f.user,
            from: f.from,
            ...(f.password ? { password: f.password } : {}),
          }
        : null,
    })
      .unwrap()
      .then(() => tell.say('Saved'))
      .catch(() => undefined);
  return (
    <form className="flex max-w-150 flex-col gap-3" onSubmit={(e) => void handleSubmit(submit)(e)}>
      <SectionTitle>How messages leave</SectionTitle>
      <Field label="Public address: links in messages begin with it" error={undefined}>
        {(field) => (
          <input
            {...field}
            placeholder="https://warehouse.example"
            className={`${inputClass} font-mono`}
            {...register('publicAddress')}
          />
        )}
      </Field>
      <div className="grid grid-cols-[1fr_100px_180px] gap-3">
        <Field label="Mail server" error={undefined}>
          {(field) => <input {...field} placeholder="mail.example" className={inputClass} {...register('host')} />}
        </Field>
        <Field label="Port" error={formState.errors.port?.message}>
          {(field) => (
            <input
              {...field}
              inputMode="numeric"
              className={inputClass}
              {...register('port', { pattern: { value: /^\d{1,5}$/, message: 'a number' } })}
            />
          )}
        </Field>
        <Field label="Encryption" error={undefined}>
          {(field) => (
            <select {...field} className={inputClass} {...register('tls')}>
              <option value="starttls">required (STARTTLS)</option>
              <option value="tls">TLS from the start</option>
              <option value="off">off</option>
            </select>
          )}
        </Field>
      </div>
      <div className="grid grid-cols-3 gap-3">
        <Field label="From" error={formState.errors.from?.message}>
          {(field) => (
            <input
              {...field}
              className={inputClass}
              {...register('from', { required: hasMail && 'Type an address' })}
            />
          )}
        </Field>
        <Field label="User" error={undefined}>
          {(field) => <input {...field} autoComplete="off" className={inputClass} {...register('user')} />}
        </Field>
        <Field label="Password" error={undefined}>
          {(field) => (
            <input
              {...field}
              type="password"
              autoComplete="new-password"
              placeholder={mail?.hasPassword ? 'unchanged' : ''}
              className={inputClass}
              {...register('password')}
            />
          )}
        </Field>
      </div>
      <Field label="Private networks that webhooks may lead to, with commas between" error={undefined}>
        {(field) => (
          <input {...field} placeholder="10.1.0.0/16" className={`${inputClass} font-mono`} {...register('ranges')} />
        )}
      </Field>
      {error && <ProblemNote problem={error as ProblemBody} />}
      <div className="flex justify-end">
        <Button tone="act" type="submit" disabled={isLoading || !formState.isDirty}>
          Save
        </Button>
      </div>
    </form>
  );
}

function Log() {
  const { data, error } = useSendingsQuery(undefined, { pollingInterval: 5_000, skipPollingIfUnfocused: true });
  const [again] = useSendAgainMutation();
  const tell = useTell();
  const columns: readonly DataColumn<SendingEntry>[] = [
    { id: 'when', width: 'w-36', look: 'whitespace-nowrap', sortBy: (s) => s.at, cell: (s) => moment(s.at) },
    { id: 'by', width: 'w-20', cell: (s) => s.channel },
    { id: 'to', width: 'w-32', sortBy: (s) => s.to, cell: (s) => s.to },
    { id: 'message', cell: (s) => s.title },
    {
      id: 'state',
      width: 'w-56',
      sortBy: (s) => s.state,
      cell: (s) => (
        <>
          <span
            className={
              s.state === 'given up' ? 'text-broken' : s.state === 'waiting' ? 'text-advisory-text' : 'text-soft'
            }
          >
            {s.state}
            {s.attempts > 0 && s.state !== 'sent' && `, tried ${s.attempts === 1 ? 'once' : `${s.attempts} times`}`}
          </span>
          {s.error && <span className="block text-small text-soft">{s.error}</span>}
          {s.state === 'given up' && (
            <Button tone="quiet" onClick={() => void again(s.id).unwrap().catch(tell.problem)}>
              Try again
            </Button>
          )}
        </>
      ),
    },
  ];
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle>Messages by mail and webhook</SectionTitle>
      {data?.length ? (
        <DataTable columns={columns} rows={data} keyOf={(s) => s.id} label="Messages sent" />
      ) : (
        <p className="text-soft">None yet.</p>
      )}
    </section>
  );
}
