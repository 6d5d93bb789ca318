import { themeChosen, useAppDispatch, useAppSelector, type Theme } from '../../data/store';
import { SectionTitle } from '../../shared/ui/section-title';
import { Password } from './password';
import { Sessions } from './sessions';
import { Tokens } from './tokens';

/** What is one person's own: the look, the password, where they are signed in, and access with their own git and programs. */
export function You() {
  return (
    <>
      <Look />
      <Password />
      <Sessions />
      <Tokens />
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
