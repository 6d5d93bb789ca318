import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import type { Notice, Reading } from '@ouvrage/api/message';
import type { ProblemBody } from '@ouvrage/api/problem';
import { SEVERITIES } from '@ouvrage/core/language';
import { useNoticesQuery, useReadingQuery, useSaveReadingMutation } from '../../data/messages';
import { ZONE } from '../../data/quality';
import { moment } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Field } from '../../shared/ui/field';
import { inputClass } from '../../shared/ui/input';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';
import { Tag } from '../../shared/ui/tag';

/** How the person is told, and what they were told. */
export function Messages() {
  const { data, error } = useReadingQuery();
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  if (!data) return <Loading what="Reading settings" />;
  return (
    <>
      <ReadingForm reading={data} />
      <Told />
    </>
  );
}

interface Fields extends Omit<Reading, 'mail' | 'channels' | 'subscriptions' | 'quietFrom' | 'quietTo'> {
  readonly inApplication: boolean;
  readonly byMail: boolean;
  readonly quietFrom: string;
  readonly quietTo: string;
  readonly subscriptions: {
    kind: 'owner' | 'tag' | 'table' | 'all';
    value: string;
    least: (typeof SEVERITIES)[number];
  }[];
}

const DIGESTS = [
  ['at once', 'each at once'],
  ['hour', 'together, every hour'],
  ['day', 'together, every morning at 7:00'],
] as const;
const KINDS = [
  ['table', 'table'],
  ['owner', 'tables of'],
  ['tag', 'tables tagged'],
  ['all', 'everything'],
] as const;

const options = (values: readonly (readonly [string, string])[]) =>
  values.map(([value, words]) => (
    <option key={value} value={value}>
      {words}
    </option>
  ));
const BOTH = 'Give both, or neither';
const CLOCK = {
  pattern: { value: /^([01]\d|2[0-3]):[0-5]\d$/, message: 'Hours and minutes, such as 22:00' },
};
const severities = SEVERITIES.map((s) => [s, s] as const);

function ReadingForm({ reading }: { reading: Reading }) {
  const { channels, subscriptions, quietFrom, quietTo, mail, ...rest } = reading;
  const { register, handleSubmit, watch, setValue, formState } = useForm<Fields>({
    mode: 'onChange',
    values: {
      ...rest,
      zone: rest.zone === 'UTC' ? ZONE : rest.zone,
      inApplication: channels.includes('application'),
      byMail: channels.includes('mail'),
      quietFrom: quietFrom ?? '',
      quietTo: quietTo ?? '',
      subscriptions: subscriptions.map((s) => ({ ...s })),
    },
  });
  // The library's own lists would be part of what is loaded before the sign-in.
  const fields = watch('subscriptions');
  const change = (next: Fields['subscriptions']) => setValue('subscriptions', next, { shouldDirty: true });
  const [save, { error, isLoading }] = useSaveReadingMutation();
  const tell = useTell();
  const submit = ({ inApplication, byMail, ...f }: Fields) =>
    save({
      ...f,
      channels: [...(inApplication ? (['application'] as const) : []), ...(byMail ? (['mail'] as const) : [])],
      quietFrom: f.quietFrom || null,
      quietTo: f.quietTo || null,
    })
      .unwrap()
      .then(() => tell.say('Saved'))
      .catch(() => undefined);
  const [from, to] = [watch('quietFrom'), watch('quietTo')];
  const { errors } = formState;
  return (
    <form className="flex max-w-150 flex-col gap-3" onSubmit={(e) => void handleSubmit(submit)(e)}>
      <SectionTitle>Notifications</SectionTitle>
      <p className="text-soft">
        You are notified when something fails in a table that you or your desks own, or in what it reads. Messages say
        what broke, since when and how many rows; they never contain rows.
      </p>
      <div className="flex gap-5">
        <label className="flex items-center gap-2">
          <input type="checkbox" {...register('inApplication')} /> On Today
        </label>
        <label className="flex items-center gap-2">
          <input type="checkbox" {...register('byMail')} /> By mail
          <span className="text-soft">{mail ?? 'an administrator gives you an address under Desks'}</span>
        </label>
      </div>
      <div className="grid grid-cols-2 gap-3">
        <Field label="At least as severe as" error={undefined}>
          {(field) => (
            <select {...field} className={inputClass} {...register('least')}>
              {options(severities)}
            </select>
          )}
        </Field>
        <Field label="Mail is sent" error={undefined}>
          {(field) => (
            <select {...field} className={inputClass} {...register('digest')}>
              {options(DIGESTS)}
            </select>
          )}
        </Field>
        <Field label="No mail from" error={errors.quietFrom?.message ?? (!from && to ? BOTH : undefined)}>
          {(field) => <input {...field} placeholder="22:00" className={inputClass} {...register('quietFrom', CLOCK)} />}
        </Field>
        <Field label="until" error={errors.quietTo?.message ?? (from && !to ? BOTH : undefined)}>
          {(field) => <input {...field} placeholder="06:30" className={inputClass} {...register('quietTo', CLOCK)} />}
        </Field>
        <Field label="Time zone" error={undefined}>
          {(field) => (
            <select {...field} className={inputClass} {...register('zone')}>
              {options(
                [...new Set([ZONE, rest.zone, ...Intl.supportedValuesOf('timeZone')])].map((z) => [z, z] as const),
              )}
            </select>
          )}
        </Field>
        <p className="self-end text-small text-soft">What is critical is mailed at once, at any hour.</p>
      </div>
      <SectionTitle>Also notify me about</SectionTitle>
      <ul className="flex flex-col gap-2">
        {fields.map((_, i) => (
          <li key={`${i} of ${fields.length}`} className="flex items-center gap-2">
            <select
              aria-label={`Kind ${i + 1}`}
              className={`${inputClass} w-36! shrink-0`}
              {...register(`subscriptions.${i}.kind`)}
            >
              {options(KINDS)}
            </select>
            {watch(`subscriptions.${i}.kind`) !== 'all' && (
              <input
                aria-label={`Name ${i + 1}`}
                placeholder={watch(`subscriptions.${i}.kind`) === 'table' ? 'core.fact_call' : 'dues office'}
                className={inputClass}
                {...register(`subscriptions.${i}.value`)}
              />
            )}
            <select
              aria-label={`Least severity ${i + 1}`}
              className={`${inputClass} w-28! shrink-0`}
              {...register(`subscriptions.${i}.least`)}
            >
              {options(severities)}
            </select>
            <Button
              tone="quiet"
              aria-label={`Remove ${i + 1}`}
              onClick={() => change(fields.filter((_f, j) => j !== i))}
            >
              ×
            </Button>
          </li>
        ))}
        {fields.length === 0 && <li className="text-soft">Nothing more.</li>}
      </ul>
      <div className="flex gap-2">
        <Button onClick={() => change([...fields, { kind: 'table', value: '', least: 'medium' }])}>Add</Button>
        <span className="flex-1" />
        <Button
          tone="act"
          type="submit"
          disabled={isLoading || !formState.isDirty || !formState.isValid || Boolean(from) !== Boolean(to)}
        >
          Save
        </Button>
      </div>
      {error && <ProblemNote problem={error as ProblemBody} />}
    </form>
  );
}

const COLUMNS: readonly DataColumn<Notice>[] = [
  { id: 'when', width: 'w-36', look: 'whitespace-nowrap', sortBy: (n) => n.at, cell: (n) => moment(n.at) },
  { id: 'severity', width: 'w-20', cell: (n) => <Tag>{n.severity}</Tag> },
  {
    id: 'message',
    cell: (n) => (
      <>
        <Link className={`text-plan underline underline-offset-2 ${n.readAt ? '' : 'font-semibold'}`} to={n.path}>
          {n.title}
        </Link>
        <span className="block text-small text-soft">{n.lines.join(' ')}</span>
      </>
    ),
  },
];

function Told() {
  const { data } = useNoticesQuery();
  if (!data) return null;
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle aside={`${data.unread} unread`}>Messages so far</SectionTitle>
      {data.notices.length ? (
        <DataTable columns={COLUMNS} rows={data.notices} keyOf={(n) => n.id} label="Messages" />
      ) : (
        <p className="text-soft">Nothing yet.</p>
      )}
    </section>
  );
}
