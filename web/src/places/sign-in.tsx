import type { ProblemBody } from '@ouvrage/api/problem';
import { useState, type SubmitEvent } from 'react';
import { useSignInMutation } from '../data/people';
import { Button } from '../shared/ui/button';
import { inputClass } from '../shared/ui/input';
import { ProblemNote } from '../shared/ui/problem-note';

/** The form of the first page is the browser's own: a library for forms would be loaded before anything is shown. */
const FIELDS = [
  { name: 'name', label: 'Name', type: 'text', autoComplete: 'username' },
  { name: 'password', label: 'Password', type: 'password', autoComplete: 'current-password' },
] as const;
type Values = Readonly<Record<(typeof FIELDS)[number]['name'], string>>;

export function SignIn() {
  const [asked, setAsked] = useState<Values>();
  const [signIn, { error, isLoading }] = useSignInMutation();
  const submit = (event: SubmitEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const values: Values = { name: String(form.get('name')), password: String(form.get('password')) };
    setAsked(values);
    if (values.name !== '' && values.password !== '') void signIn(values);
  };
  return (
    <main className="flex h-full items-center justify-center p-6">
      <div className="w-dialog border border-rule bg-sheet">
        <div className="flex items-baseline justify-between border-b border-rule px-5 py-3">
          <h1 className="font-cond text-head font-semibold">Ouvrage</h1>
          <span className="caps">sign in</span>
        </div>
        <form onSubmit={submit} className="flex flex-col gap-3 px-5 py-4" noValidate>
          {FIELDS.map(({ label, ...field }, i) => (
            <label key={field.name} className="flex flex-col gap-1">
              {label}
              <input autoFocus={i === 0} {...field} className={inputClass} />
              {asked?.[field.name] === '' && <span className="text-broken">Type your {field.name}</span>}
            </label>
          ))}
          {error && <ProblemNote problem={error as ProblemBody} />}
          <Button tone="act" type="submit" disabled={isLoading} className="mt-1">
            Sign in
          </Button>
        </form>
        <dl className="grid grid-cols-2 border-t border-rule text-small">
          <div className="border-r border-line px-5 py-2">
            <dt className="caps">Sheet</dt>
            <dd>the warehouse, drawn to scale</dd>
          </div>
          <div className="px-5 py-2">
            <dt className="caps">Made of</dt>
            <dd>your SQL, and nothing else</dd>
          </div>
        </dl>
      </div>
    </main>
  );
}
