import { useId, type ReactNode } from 'react';

/** A field of a form with its label, and what is wrong with it. */
export function Field({
  label,
  error,
  children,
}: {
  label: string;
  error: string | undefined;
  children: (field: { id: string; 'aria-invalid': boolean; 'aria-describedby'?: string }) => ReactNode;
}) {
  const id = useId();
  return (
    <div className="flex flex-col gap-1">
      <label htmlFor={id}>{label}</label>
      {children({ id, 'aria-invalid': error !== undefined, ...(error ? { 'aria-describedby': `${id}-error` } : {}) })}
      {error && (
        <p id={`${id}-error`} className="text-small text-broken">
          {error}
        </p>
      )}
    </div>
  );
}
