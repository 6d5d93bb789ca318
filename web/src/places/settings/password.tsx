import type { ProblemBody } from '@ouvrage/api/problem';
import { useForm } from 'react-hook-form';
import { useChangePasswordMutation } from '../../data/people';
import { isFilled } from '../../shared/filled';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { Field } from '../../shared/ui/field';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';

const EMPTY = { present: '', password: '', again: '' };

/** Changes one's own password. */
export function Password() {
  const [change, { error, isLoading, reset: forget }] = useChangePasswordMutation();
  const { register, handleSubmit, reset, formState, getValues } = useForm({ mode: 'onTouched', defaultValues: EMPTY });
  const tell = useTell();
  const submit = ({ present, password }: typeof EMPTY) =>
    change({ present, password })
      .unwrap()
      .then(() => {
        reset(EMPTY);
        forget();
        tell.say('Password changed', 'Your other sessions have ended');
      })
      .catch(() => undefined);
  const fields = [
    { name: 'present', label: 'Present password', complete: 'current-password', rule: isFilled },
    { name: 'password', label: 'New password, of at least 10 characters', complete: 'new-password', rule: isFilled },
    {
      name: 'again',
      label: 'New password again',
      complete: 'new-password',
      rule: (text: string) => text === getValues('password') || 'The two passwords differ',
    },
  ] as const;
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle>Password</SectionTitle>
      <form className="flex max-w-100 flex-col gap-2" onSubmit={(e) => void handleSubmit(submit)(e)}>
        {fields.map(({ name, label, complete, rule }) => (
          <Field key={name} label={label} error={formState.errors[name]?.message}>
            {(field) => (
              <input
                {...field}
                type="password"
                autoComplete={complete}
                maxLength={200}
                className={inputClass}
                {...register(name, { validate: rule })}
              />
            )}
          </Field>
        ))}
        {error && <ProblemNote problem={error as ProblemBody} />}
        <div>
          <Button type="submit" disabled={isLoading || !formState.isDirty}>
            Change password
          </Button>
        </div>
      </form>
    </section>
  );
}
