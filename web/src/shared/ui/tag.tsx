import type { ReactNode } from 'react';
/** A small framed word: a role, a type, a state. */
export function Tag({
  children,
  tone = 'plain',
}: {
  children: ReactNode;
  tone?: 'plain' | 'advisory' | 'broken' | 'plan';
}) {
  const colour = {
    plain: 'border-rule text-soft',
    advisory: 'border-advisory text-advisory-text',
    broken: 'border-broken text-broken',
    plan: 'border-plan text-plan',
  }[tone];
  return (
    <span
      className={`inline-block rounded-edge border px-1 font-cond text-tiny leading-3.75 whitespace-nowrap ${colour}`}
    >
      {children}
    </span>
  );
}
