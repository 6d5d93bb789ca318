import { isMatch } from 'date-fns';
import { useEffect, useState } from 'react';
import { inputClass } from './input';

const ISO = 'yyyy-MM-dd';
export const isDate = (text: string): boolean => /^\d{4}-\d{2}-\d{2}$/.test(text) && isMatch(text, ISO);

/** A day, typed and shown as 2026-03-01 whatever the browser's language. What is no day yet is reported, and changes nothing. */
export function DateField({
  label,
  value,
  onChange,
  beside = false,
}: {
  label: string;
  value: string;
  onChange: (date: string) => void;
  beside?: boolean;
}) {
  const [typed, setTyped] = useState(value);
  useEffect(() => setTyped(value), [value]);
  const wrong = typed !== '' && !isDate(typed);
  return (
    <label className={`flex text-small ${beside ? 'items-center gap-1.5' : 'flex-col'}`}>
      {label}
      <input
        required
        inputMode="numeric"
        placeholder="2026-03-01"
        maxLength={10}
        value={typed}
        aria-invalid={wrong}
        title={wrong ? 'Write the day as 2026-03-01.' : undefined}
        onChange={(e) => {
          const text = e.target.value.trim();
          setTyped(text);
          if (isDate(text)) onChange(text);
        }}
        onBlur={() => wrong && setTyped(value)}
        className={`${inputClass} w-28! font-mono text-small aria-invalid:border-broken`}
      />
    </label>
  );
}
