import type { ReactNode } from 'react';
/** What stands where there is nothing: says what to do next. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="flex h-full min-h-32 flex-col items-center justify-center gap-2 p-6 text-center">
      <p className="sheet-title">{title}</p>
      {children && <div className="max-w-md text-soft">{children}</div>}
    </div>
  );
}
