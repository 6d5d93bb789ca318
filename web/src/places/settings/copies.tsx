import type { KeptCopies } from '@ouvrage/api/release';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { PRODUCTION, usePerson, whyNot } from '../../data/person';
import { useKeepForMutation, useKeptCopiesQuery } from '../../data/releases';
import { diskSize, moment, plural } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Field } from '../../shared/ui/field';
import { inputClass } from '../../shared/ui/input';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';

const MOST_DAYS = 365;

type Kept = KeptCopies['releases'][number];

const COLUMNS: readonly DataColumn<Kept>[] = [
  {
    id: 'release',
    sortBy: (r) => r.id,
    cell: (r) => (
      <Link className="text-plan underline underline-offset-2" to={address.release(PRODUCTION, r.id)}>
        {r.id} {r.message}
      </Link>
    ),
  },
  { id: 'tables', cell: (r) => <span className="break-words">{r.tables.join(', ')}</span> },
  { id: 'disk', inFigures: true, look: 'whitespace-nowrap', sortBy: (r) => r.bytes, cell: (r) => diskSize(r.bytes) },
  { id: 'kept until', look: 'whitespace-nowrap', sortBy: (r) => r.until, cell: (r) => moment(r.until) },
];

/** What releases have replaced and dropped of production, and for how long it is kept. */
export function Copies() {
  const { data, error, refetch } = useKeptCopiesQuery();
  if (error) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  if (!data) return <Loading what="Reading kept copies" />;
  const { releases, bytes, days } = data;
  return (
    <section className="flex flex-col gap-3">
      <SectionTitle aside={releases.length > 0 ? diskSize(bytes) : ''}>Kept copies</SectionTitle>
      <p className="max-w-150 text-soft">
        What a release replaces or drops is kept in the warehouse, with keys and all that is remembered beside the
        tables, so that it can be restored. It is dropped when its time is over.
      </p>
      <DaysForm key={days} days={days} />
      {releases.length > 0 ? (
        <DataTable label="Kept copies" columns={COLUMNS} rows={releases} keyOf={(r) => String(r.id)} />
      ) : (
        <p className="text-soft">
          {days === 0 ? 'No copies are kept: a release drops what it replaces.' : 'No release has kept anything yet.'}
        </p>
      )}
    </section>
  );
}

function DaysForm({ days }: { readonly days: number }) {
  const reason = whyNot(usePerson(), 'administrator', 'change this');
  const { register, handleSubmit, formState, watch } = useForm({ defaultValues: { days: String(days) } });
  const [keep, { error, isLoading }] = useKeepForMutation();
  const tell = useTell();
  const asked = Number(watch('days'));
  const submit = () =>
    keep(asked)
      .unwrap()
      .then(() => tell.say('Saved', asked === 0 ? 'No copies are kept' : `Copies are kept for ${plural(asked, 'day')}`))
      .catch(() => undefined);
  return (
    <form className="flex max-w-150 flex-col gap-2" onSubmit={(e) => void handleSubmit(submit)(e)}>
      <Field label="Days for which copies are kept" error={formState.errors.days?.message}>
        {(field) => (
          <input
            {...field}
            inputMode="numeric"
            disabled={reason !== undefined}
            className={`${inputClass} max-w-24`}
            {...register('days', {
              validate: (text) =>
                (/^\d{1,3}$/.test(text.trim()) && Number(text) <= MOST_DAYS) ||
                `Enter a whole number from 0 to ${MOST_DAYS}`,
            })}
          />
        )}
      </Field>
      {asked < days && (
        <p className="text-advisory-text">Copies that are older are dropped at once: they cannot be restored.</p>
      )}
      {error && <ProblemNote problem={error as ProblemBody} />}
      <div>
        <Button type="submit" disabled={isLoading || !formState.isDirty} {...(reason ? { reason } : {})}>
          Save
        </Button>
      </div>
    </form>
  );
}
