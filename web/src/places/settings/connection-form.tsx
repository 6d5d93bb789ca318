import { useForm } from 'react-hook-form';
import { useKeepConnectionMutation, useTestConnectionMutation } from '../../data/connections';
import type { ConnectionEntry, ConnectionInput, TlsMode } from '@ouvrage/api/connection';
import type { ProblemBody } from '@ouvrage/api/problem';
import { plural } from '../../shared/format';
import { Field } from '../../shared/ui/field';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Modal } from '../../shared/ui/modal';
import { Button } from '../../shared/ui/button';

const TLS: readonly (readonly [TlsMode, string])[] = [
  ['off', 'off'],
  ['encrypted', 'encrypted, any certificate'],
  ['verified', 'encrypted, certificate verified'],
];

interface Fields extends Omit<ConnectionInput, 'password'> {
  readonly password: string;
}

/** Makes or changes a connection; a test says which part of it does not work. */
export function ConnectionForm({
  connection,
  onClose,
}: {
  connection: ConnectionEntry | undefined;
  onClose: () => void;
}) {
  const { register, handleSubmit, getValues, trigger, formState } = useForm<Fields>({
    defaultValues: connection
      ? { ...connection, password: '' }
      : { name: '', host: '', port: 5432, database: '', user: '', password: '', tls: 'verified' },
  });
  const [keep, { error, isLoading: keeping }] = useKeepConnectionMutation();
  const [test, { data: tested, isLoading: testing, error: testError }] = useTestConnectionMutation();
  const id = connection?.id;
  const inputOf = ({ name, host, port, database, user, password, tls }: Fields): ConnectionInput => ({
    name,
    host,
    port: Number(port),
    database,
    user,
    tls,
    ...(password ? { password } : {}),
  });
  const { errors } = formState;
  const needed = (what: string) => ({ required: `Type ${what}` });
  return (
    <Modal title={connection ? `Connection ${connection.name}` : 'New connection'} open onClose={onClose}>
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) =>
          void handleSubmit((fields) =>
            keep({ id, input: inputOf(fields) })
              .unwrap()
              .then(onClose)
              .catch(() => undefined),
          )(e)
        }
      >
        <Field label="Name" error={errors.name?.message}>
          {(field) => <input {...field} {...register('name', needed('a name'))} className={inputClass} />}
        </Field>
        <div className="grid grid-cols-[1fr_90px] gap-3">
          <Field label="Host" error={errors.host?.message}>
            {(field) => (
              <input {...field} {...register('host', needed('the machine’s name or address'))} className={inputClass} />
            )}
          </Field>
          <Field label="Port" error={errors.port?.message}>
            {(field) => (
              <input
                {...field}
                inputMode="numeric"
                {...register('port', {
                  ...needed('a port'),
                  min: { value: 1, message: '1 or more' },
                  max: { value: 65535, message: '65535 at most' },
                  pattern: { value: /^\d+$/, message: 'a number' },
                })}
                className={inputClass}
              />
            )}
          </Field>
        </div>
        <Field label="Database" error={errors.database?.message}>
          {(field) => (
            <input {...field} {...register('database', needed('the database’s name'))} className={inputClass} />
          )}
        </Field>
        <div className="grid grid-cols-2 gap-3">
          <Field label="User" error={errors.user?.message}>
            {(field) => (
              <input
                {...field}
                autoComplete="off"
                {...register('user', needed('the database’s user'))}
                className={inputClass}
              />
            )}
          </Field>
          <Field label="Password" error={errors.password?.message}>
            {(field) => (
              <input
                {...field}
                type="password"
                autoComplete="new-password"
                placeholder={connection ? 'kept' : ''}
                {...register('password', connection ? {} : needed('the password'))}
                className={inputClass}
              />
            )}
          </Field>
        </div>
        <Field label="TLS" error={undefined}>
          {(field) => (
            <select {...field} {...register('tls')} className={inputClass}>
              {TLS.map(([value, said]) => (
                <option key={value} value={value}>
                  {said}
                </option>
              ))}
            </select>
          )}
        </Field>
        {tested?.ok && (
          <p role="status" className="border-l-3 border-holds bg-raised px-3 py-2">
            It works: PostgreSQL {tested.version}, {plural(tested.tables, 'table')} to read.
          </p>
        )}
        {tested && !tested.ok && (
          <div role="alert" className="border-l-3 border-broken bg-raised px-3 py-2">
            <p className="font-medium text-broken">{tested.message}</p>
            <p>{tested.remedy}</p>
          </div>
        )}
        {(error ?? testError) && <ProblemNote problem={(error ?? testError) as ProblemBody} />}
        <div className="flex justify-end gap-2">
          <Button
            disabled={testing}
            onClick={() => void trigger().then((sound) => sound && void test({ id, input: inputOf(getValues()) }))}
          >
            {testing ? 'Trying it' : 'Test'}
          </Button>
          <Button type="submit" tone="act" disabled={keeping}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}
