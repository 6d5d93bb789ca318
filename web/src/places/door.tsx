import type { ProblemBody } from '@ouvrage/api/problem';
import { useState, type ReactNode, type SubmitEvent } from 'react';
import { Button } from '../shared/ui/button';
import { inputClass } from '../shared/ui/input';
import { ProblemNote } from '../shared/ui/problem-note';

/** A field of a form before the application. All of them have to be filled in. */
export interface DoorField<Name extends string> {
  readonly name: Name;
  readonly label: string;
  /** What is said where it is empty: `Type your name`. */
  readonly missing: string;
  readonly type: 'text' | 'password';
  readonly autoComplete: string;
}

export const NAME = {
  name: 'name',
  label: 'Name',
  missing: 'Type your name',
  type: 'text',
  autoComplete: 'username',
} as const satisfies DoorField<'name'>;
export const PASSWORD = {
  name: 'password',
  label: 'Password',
  missing: 'Type your password',
  type: 'password',
  autoComplete: 'current-password',
} as const satisfies DoorField<'password'>;
export const NEW_PASSWORD = {
  name: 'password',
  label: 'New password, of at least 10 characters',
  missing: 'Choose a password',
  type: 'password',
  autoComplete: 'new-password',
} as const satisfies DoorField<'password'>;
export const AGAIN = {
  name: 'again',
  label: 'New password again',
  missing: 'Type the new password again',
  type: 'password',
  autoComplete: 'new-password',
} as const satisfies DoorField<'again'>;

/** The sheet that somebody sees before they are in. */
export function Door({ does, children }: { readonly does: string; readonly children: ReactNode }) {
  return (
    <main className="flex h-full items-center justify-center p-6">
      <div className="w-dialog border border-rule bg-sheet">
        <div className="flex items-baseline justify-between border-b border-rule px-5 py-3">
          <h1 className="font-cond text-head font-semibold">Ouvrage</h1>
          <span className="caps">{does}</span>
        </div>
        <div className="flex flex-col gap-3 px-5 py-4">{children}</div>
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

/** The form of a first page is the browser's own: a library for forms would be loaded before anything is shown. */
export function DoorForm<Name extends string>({
  fields,
  action,
  isBusy,
  problem,
  onSubmit,
}: {
  readonly fields: readonly DoorField<Name>[];
  readonly action: string;
  readonly isBusy: boolean;
  readonly problem: ProblemBody | undefined;
  readonly onSubmit: (values: Readonly<Record<Name, string>>) => void;
}) {
  const [faults, setFaults] = useState<Readonly<Record<string, string>>>({});
  const submit = (event: SubmitEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const values = Object.fromEntries(fields.map((f) => [f.name, String(form.get(f.name))])) as Record<Name, string>;
    const found: Record<string, string> = {};
    for (const { name, missing } of fields) if (values[name] === '') found[name] = missing;
    const { password, again } = values as Readonly<Record<string, string>>;
    if (again !== undefined && again !== '' && again !== password) found['again'] = 'The two passwords differ';
    setFaults(found);
    if (Object.keys(found).length === 0) onSubmit(values);
  };
  return (
    <form onSubmit={submit} className="flex flex-col gap-3" noValidate>
      {fields.map(({ label, missing: _, ...field }, i) => (
        <label key={field.name} className="flex flex-col gap-1">
          {label}
          <input autoFocus={i === 0} {...field} className={inputClass} />
          {faults[field.name] && <span className="text-broken">{faults[field.name]}</span>}
        </label>
      ))}
      {problem && <ProblemNote problem={problem} />}
      <Button tone="act" type="submit" disabled={isBusy} className="mt-1">
        {action}
      </Button>
    </form>
  );
}
