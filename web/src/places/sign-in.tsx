import { useForm } from 'react-hook-form';
import { useSignInMutation } from '../data/people';
import type { ProblemBody } from '@ouvrage/api/problem';
import { inputClass } from '../shared/ui/input';
import { ProblemNote } from '../shared/ui/problem-note';
import { Button } from '../shared/ui/button';

interface Form {
  name: string;
  password: string;
}

export function SignIn() {
  const { register, handleSubmit, formState } = useForm<Form>();
  const [signIn, { error, isLoading }] = useSignInMutation();
  return (
    <main className="flex h-full items-center justify-center p-6">
      <div className="w-dialog border border-rule bg-sheet">
        <div className="flex items-baseline justify-between border-b border-rule px-5 py-3">
          <h1 className="font-cond text-head font-semibold">Ouvrage</h1>
          <span className="caps">sign in</span>
        </div>
        <form
          onSubmit={(e) => void handleSubmit((values) => signIn(values))(e)}
          className="flex flex-col gap-3 px-5 py-4"
          noValidate
        >
          <label className="flex flex-col gap-1">
            Name
            <input
              autoFocus
              autoComplete="username"
              {...register('name', { required: 'Type your name' })}
              className={inputClass}
            />
            {formState.errors.name && <span className="text-broken">{formState.errors.name.message}</span>}
          </label>
          <label className="flex flex-col gap-1">
            Password
            <input
              type="password"
              autoComplete="current-password"
              {...register('password', { required: 'Type your password' })}
              className={inputClass}
            />
            {formState.errors.password && <span className="text-broken">{formState.errors.password.message}</span>}
          </label>
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
