import type { SessionLimits } from '@ouvrage/api/people';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useForm } from 'react-hook-form';
import { useLimitSessionsMutation, useSessionLimitsQuery } from '../../data/people';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { Field } from '../../shared/ui/field';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';

const FIELDS = [
  { name: 'idleHours', label: 'Hours without use', most: 24 * 90 },
  { name: 'days', label: 'Days in all', most: 90 },
] as const;

/** After how long everybody has to sign in again. */
export function SessionEnds() {
  const { data } = useSessionLimitsQuery();
  return data ? <Form key={`${data.idleHours} ${data.days}`} limits={data} /> : null;
}

function Form({ limits }: { readonly limits: SessionLimits }) {
  const [limit, { error, isLoading }] = useLimitSessionsMutation();
  const tell = useTell();
  const { register, handleSubmit, formState } = useForm({
    mode: 'onChange',
    defaultValues: { idleHours: String(limits.idleHours), days: String(limits.days) },
  });
  const submit = ({ idleHours, days }: { idleHours: string; days: string }) =>
    limit({ idleHours: Number(idleHours), days: Number(days) })
      .unwrap()
      .then(() => tell.say('Saved', 'Sessions that are older have ended'))
      .catch(() => undefined);
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle>A session ends after</SectionTitle>
      <form className="flex flex-col gap-2" onSubmit={(e) => void handleSubmit(submit)(e)}>
        <div className="flex items-start gap-3">
          {FIELDS.map(({ name, label, most }) => (
            <Field key={name} label={label} error={formState.errors[name]?.message}>
              {(field) => (
                <input
                  {...field}
                  inputMode="numeric"
                  className={`${inputClass} max-w-24`}
                  {...register(name, {
                    validate: (text) =>
                      (/^[1-9]\d{0,3}$/.test(text.trim()) && Number(text) <= most) ||
                      `Enter a whole number from 1 to ${most}`,
                  })}
                />
              )}
            </Field>
          ))}
        </div>
        {error && <ProblemNote problem={error as ProblemBody} />}
        <div>
          <Button type="submit" disabled={isLoading || !formState.isDirty || !formState.isValid}>
            Save
          </Button>
        </div>
      </form>
    </section>
  );
}
