import { Toast } from 'radix-ui';
import { createContext, useCallback, useContext, useMemo, useState, type ReactNode } from 'react';
import type { ProblemBody } from '@ouvrage/api/problem';

interface Told {
  readonly id: number;
  readonly title: string;
  readonly detail?: string;
  readonly bad: boolean;
  readonly undo?: () => void;
}

interface Teller {
  /** @param undo takes back what is said, from the message itself */
  readonly say: (title: string, detail?: string, undo?: () => void) => void;
  readonly problem: (problem: unknown) => void;
}

const Context = createContext<Teller | undefined>(undefined);

export function useTell(): Teller {
  return useContext(Context)!;
}

/** Short messages at the edge of the sheet. */
export function ToastProvider({ children }: { children: ReactNode }) {
  const [told, setTold] = useState<readonly Told[]>([]);
  const add = useCallback(
    (toast: Omit<Told, 'id'>) => setTold((all) => [...all.slice(-3), { ...toast, id: Date.now() + Math.random() }]),
    [],
  );
  const teller = useMemo(
    (): Teller => ({
      say: (title, detail, undo) =>
        add({ title, bad: false, ...(detail ? { detail } : {}), ...(undo ? { undo } : {}) }),
      problem: (problem) => {
        const body = problem as ProblemBody;
        add({
          title: body.title ?? 'Something went wrong',
          bad: true,
          ...(body.detail ? { detail: body.detail } : {}),
        });
      },
    }),
    [add],
  );
  return (
    <Toast.Provider duration={6000}>
      <Context.Provider value={teller}>{children}</Context.Provider>
      {told.map((t) => (
        <Toast.Root
          key={t.id}
          onOpenChange={(open) => !open && setTold((all) => all.filter((o) => o.id !== t.id))}
          className={`border border-l-3 border-rule bg-raised px-3 py-2 text-ink shadow ${t.bad ? 'border-l-broken' : 'border-l-holds'}`}
        >
          <Toast.Title className="font-medium">{t.title}</Toast.Title>
          {t.detail && <Toast.Description className="text-soft">{t.detail}</Toast.Description>}
          {t.undo && (
            <Toast.Action altText={`Undo: ${t.title}`} asChild>
              <button
                type="button"
                onClick={t.undo}
                className="mt-1 font-medium text-plan underline underline-offset-2"
              >
                Undo
              </button>
            </Toast.Action>
          )}
        </Toast.Root>
      ))}
      <Toast.Viewport className="fixed right-4 bottom-4 z-50 flex w-dialog-small flex-col gap-2" />
    </Toast.Provider>
  );
}
