import { lazy, Suspense } from 'react';
import type { ButtonHTMLAttributes } from 'react';
/** Only where a reason is reported: what is shown before anybody has signed in does without it. */
const Hint = lazy(() => import('./hint').then((m) => ({ default: m.Hint })));

type Tone = 'plain' | 'act' | 'danger' | 'quiet';

const TONES: Readonly<Record<Tone, string>> = {
  plain: 'border-rule bg-raised text-ink enabled:hover:bg-wash',
  act: 'border-plan bg-plan text-plan-text enabled:hover:brightness-110',
  danger: 'border-broken bg-raised text-broken enabled:hover:bg-wash',
  quiet: 'border-transparent bg-transparent text-plan enabled:hover:underline px-1',
};

export function Button({
  tone = 'plain',
  className = '',
  reason,
  ...props
}: ButtonHTMLAttributes<HTMLButtonElement> & { tone?: Tone; reason?: string }) {
  const button = (
    <button
      type="button"
      {...props}
      {...(reason ? { 'aria-disabled': true, onClick: (e) => e.preventDefault() } : {})}
      className={`inline-flex h-control items-center justify-center gap-1.5 rounded-edge border px-3 font-medium whitespace-nowrap disabled:opacity-55 aria-disabled:cursor-default aria-disabled:opacity-55 ${TONES[tone]} ${className}`}
    />
  );
  return reason ? (
    <Suspense fallback={button}>
      <Hint text={reason}>{button}</Hint>
    </Suspense>
  ) : (
    button
  );
}
