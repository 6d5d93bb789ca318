import { useForm } from 'react-hook-form';
import { useState } from 'react';
import { useCreateTokenMutation, useDeleteTokenMutation, useTokensQuery } from '../../data/people';
import { useProject } from '../../data/project';
import { usePerson } from '../../data/person';
import { themeChosen, useAppDispatch, useAppSelector, type Theme } from '../../data/store';
import { ago } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { isFilled } from '../../shared/filled';
import { inputClass } from '../../shared/ui/input';
import { SectionTitle } from '../../shared/ui/section-title';
import { ConfirmDestroy } from '../../shared/ui/confirm-destroy';
import { Button } from '../../shared/ui/button';

/** What is one person's own: the look, and access with their own git. */
export function You() {
  return (
    <>
      <Look />
      <Git />
    </>
  );
}

function Look() {
  const theme = useAppSelector((s) => s.interface.theme);
  const dispatch = useAppDispatch();
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle>Theme</SectionTitle>
      <div role="radiogroup" aria-label="Theme" className="flex gap-2">
        {(['paper', 'blueprint'] as const satisfies readonly Theme[]).map((t) => (
          <button
            key={t}
            type="button"
            role="radio"
            aria-checked={theme === t}
            onClick={() => dispatch(themeChosen(t))}
            className={`h-field rounded-edge border px-3 ${theme === t ? 'border-plan bg-wash font-medium text-plan' : 'border-rule bg-raised'}`}
          >
            {t === 'paper' ? 'Paper (light)' : 'Blueprint (dark)'}
          </button>
        ))}
      </div>
    </section>
  );
}

/** Access tokens: with one of them a person's own git clones and pushes the project. */
function Git() {
  const person = usePerson();
  const { slug } = useProject();
  const { data: tokens = [] } = useTokensQuery();
  const [create, { data: made, isLoading }] = useCreateTokenMutation();
  const [remove] = useDeleteTokenMutation();
  const { register, handleSubmit, reset, formState } = useForm({ defaultValues: { label: '' } });
  const [removing, setRemoving] = useState<{ id: string; label: string }>();
  const tell = useTell();
  const clone = `git clone ${location.protocol}//${person.name}@${location.host}/git/project.git`;
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle aside="your name, and a token as the password">The project in your own git</SectionTitle>
      <pre className="overflow-x-auto border border-line bg-raised p-2 font-mono text-small">{`${clone}\ngit push origin HEAD:workspace/${slug === 'production' ? 'NAME' : slug}`}</pre>
      <form
        className="flex gap-2"
        onSubmit={(e) =>
          void handleSubmit(({ label }) =>
            create(label.trim())
              .unwrap()
              .then(() => reset())
              .catch(tell.problem),
          )(e)
        }
      >
        <input
          aria-label="What the token is for"
          placeholder="What is the token for?"
          maxLength={100}
          {...register('label', { validate: isFilled })}
          className={inputClass}
        />
        <Button type="submit" tone="act" disabled={!formState.isValid || isLoading}>
          Create token
        </Button>
      </form>
      {made && (
        <p role="status" className="border-l-3 border-holds bg-raised px-3 py-2">
          Copy it now; it will not be shown again:{' '}
          <code className="font-mono text-small break-all select-all">{made.token}</code>
        </p>
      )}
      <ul className="border-t border-line">
        {tokens.map((t) => (
          <li key={t.id} className="flex items-center gap-3 border-b border-line py-1">
            <span className="flex-1 truncate font-medium">{t.label}</span>
            <span className="text-small text-soft">
              made {ago(t.createdAt)}, used {ago(t.lastUsedAt)}
            </span>
            <Button tone="quiet" onClick={() => setRemoving(t)}>
              Delete
            </Button>
          </li>
        ))}
        {tokens.length === 0 && <li className="py-1 text-soft">You have no tokens.</li>}
      </ul>
      <ConfirmDestroy
        title="Delete the token?"
        what={<p>Whatever uses “{removing?.label}” can no longer reach the project.</p>}
        action="Delete the token"
        open={removing !== undefined}
        onClose={() => setRemoving(undefined)}
        onConfirm={() => removing && void remove(removing.id).unwrap().catch(tell.problem)}
      />
    </section>
  );
}
