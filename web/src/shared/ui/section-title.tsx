import type { ReactNode } from 'react';
export function SectionTitle({ children, aside }: { children: ReactNode; aside?: ReactNode }) {
  return (
    <div className="flex items-baseline justify-between gap-3">
      <h2 className="caps">{children}</h2>
      {aside && <span className="text-small text-soft">{aside}</span>}
    </div>
  );
}
