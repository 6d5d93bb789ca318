import { AlertDialog, Dialog, Tooltip } from 'radix-ui';
import { type ButtonHTMLAttributes, type ReactNode } from 'react';
import type { ProblemBody } from '../app/types';

type Tone = 'plain' | 'act' | 'danger' | 'quiet';

const TONES: Readonly<Record<Tone, string>> = {
  plain: 'border-rule bg-raised text-ink enabled:hover:bg-wash',
  act: 'border-plan bg-plan text-plan-text enabled:hover:brightness-110',
  danger: 'border-broken bg-raised text-broken enabled:hover:bg-wash',
  quiet: 'border-transparent bg-transparent text-plan enabled:hover:underline px-1',
};

export function Button({ tone = 'plain', className = '', reason, ...props }: ButtonHTMLAttributes<HTMLButtonElement> & { tone?: Tone; reason?: string }) {
  const button = (
    <button
      type="button"
      {...props}
      {...(reason ? { 'aria-disabled': true, onClick: (e) => e.preventDefault() } : {})}
      className={`inline-flex h-[27px] items-center justify-center gap-1.5 rounded-[2px] border px-3 font-medium whitespace-nowrap disabled:opacity-55 aria-disabled:cursor-default aria-disabled:opacity-55 ${TONES[tone]} ${className}`}
    />
  );
  return reason ? <Hint text={reason}>{button}</Hint> : button;
}

/** A short explanation on hover and focus. */
export function Hint({ text, children }: { text: string; children: ReactNode }) {
  return (
    <Tooltip.Root delayDuration={250}>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content sideOffset={5} className="z-50 max-w-80 rounded-[2px] border border-rule bg-raised px-2 py-1 text-[12px] text-ink shadow-sm">
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

/** A small framed word: a role, a type, a state. */
export function Tag({ children, tone = 'plain' }: { children: ReactNode; tone?: 'plain' | 'advisory' | 'broken' | 'plan' }) {
  const colour = {
    plain: 'border-rule text-soft',
    advisory: 'border-advisory text-advisory-text',
    broken: 'border-broken text-broken',
    plan: 'border-plan text-plan',
  }[tone];
  return <span className={`inline-block rounded-[2px] border px-1 font-cond text-[11px] leading-[15px] whitespace-nowrap ${colour}`}>{children}</span>;
}

export function Modal({ title, open, onClose, children, wide }: { title: string; open: boolean; onClose: () => void; children: ReactNode; wide?: boolean }) {
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className={`fixed top-[12vh] left-1/2 z-50 flex max-h-[76vh] -translate-x-1/2 flex-col border border-rule bg-sheet text-ink shadow-lg ${wide ? 'w-[min(1040px,94vw)]' : 'w-[min(460px,94vw)]'}`}
        >
          <Dialog.Title className="sheet-title border-b border-line px-4 py-2.5">{title}</Dialog.Title>
          <div className="min-h-0 overflow-auto px-4 py-3">{children}</div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** Asks once before something is destroyed, and says what. */
export function ConfirmDestroy({
  title,
  what,
  action,
  open,
  onClose,
  onConfirm,
}: {
  title: string;
  what: ReactNode;
  action: string;
  open: boolean;
  onClose: () => void;
  onConfirm: () => void;
}) {
  return (
    <AlertDialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <AlertDialog.Content className="fixed top-[20vh] left-1/2 z-50 w-[min(440px,94vw)] -translate-x-1/2 border border-rule bg-sheet p-4 text-ink shadow-lg">
          <AlertDialog.Title className="sheet-title">{title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="my-3">{what}</div>
          </AlertDialog.Description>
          <div className="flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Cancel</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button tone="danger" onClick={onConfirm}>
                {action}
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

/** What stands where there is nothing: says what to do next. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="flex h-full min-h-32 flex-col items-center justify-center gap-2 p-6 text-center">
      <p className="sheet-title">{title}</p>
      {children && <div className="max-w-md text-soft">{children}</div>}
    </div>
  );
}

export function Loading({ what }: { what: string }) {
  return (
    <div role="status" className="flex h-full min-h-24 items-center justify-center gap-2 p-6 text-soft">
      <span aria-hidden className="h-3 w-3 animate-spin border border-rule border-t-plan" />
      {what}
    </div>
  );
}

/** An error: what happened, where, and what to do. */
export function ProblemNote({ problem, again }: { problem: ProblemBody; again?: () => void }) {
  const error = problem['error'] as { path?: string; line?: number; column?: number; detail?: string; hint?: string } | undefined;
  return (
    <div role="alert" className="border-l-[3px] border-broken bg-raised px-3 py-2">
      <p className="font-medium text-broken">
        {problem.title}
        {error?.line !== undefined && (
          <span className="font-mono text-[12px] font-normal text-soft">
            {' '}
            {error.path} line {error.line}, column {error.column}
          </span>
        )}
      </p>
      {[problem.detail, error?.detail]
        .filter((t, i, all) => t && all.indexOf(t) === i)
        .map((t) => (
          <p key={t}>{t}</p>
        ))}
      {again && (
        <Button tone="quiet" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  );
}

export function SectionTitle({ children, aside }: { children: ReactNode; aside?: ReactNode }) {
  return (
    <div className="flex items-baseline justify-between gap-3">
      <h2 className="caps">{children}</h2>
      {aside && <span className="text-[12px] text-soft">{aside}</span>}
    </div>
  );
}

export const inputClass = 'h-[29px] w-full rounded-[2px] border border-rule bg-raised px-2 text-ink';
