import { inputClass } from '../../shared/ui/input';
import { useState, useEffect } from 'react';
import type { ReactNode } from 'react';
export function Row({ label, help, children }: { label: string; help?: string | undefined; children: ReactNode }) {
  return (
    <div className="grid grid-cols-[84px_minmax(0,1fr)] items-center gap-2">
      <span className="truncate text-small text-soft" title={help ?? label}>
        {label}
      </span>
      {children}
    </div>
  );
}

/** A value that is set when it is chosen, or when Enter is pressed or the field is left. */
export function Value({
  label,
  value,
  choices,
  long = false,
  needed = false,
  onSet,
}: {
  label: string;
  value: string;
  choices?: readonly string[] | undefined;
  long?: boolean;
  /** May not be empty. */
  needed?: boolean;
  onSet: (value: string) => void;
}) {
  const [typed, setTyped] = useState(value);
  useEffect(() => setTyped(value), [value]);
  if (choices)
    return (
      <select aria-label={label} value={value} onChange={(e) => onSet(e.target.value)} className={inputClass}>
        <option value="">–</option>
        {[...new Set([...(value ? [value] : []), ...choices])].map((c) => (
          <option key={c}>{c}</option>
        ))}
      </select>
    );
  const set = () => {
    const next = typed.trim();
    if (next === value || (needed && next === '')) setTyped(value);
    else onSet(next);
  };
  const common = { 'aria-label': label, value: typed, onBlur: set };
  if (long)
    return (
      <textarea
        {...common}
        rows={2}
        onChange={(e) => setTyped(e.target.value)}
        className="w-full rounded-edge border border-rule bg-raised px-2 py-1 text-ink"
      />
    );
  return (
    <input
      {...common}
      onChange={(e) => setTyped(e.target.value)}
      onKeyDown={(e) => e.key === 'Enter' && set()}
      className={`${inputClass} font-mono text-small`}
    />
  );
}
