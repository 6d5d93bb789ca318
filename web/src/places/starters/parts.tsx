import { PERIODS, type Period } from '@ouvrage/core/starter';
import { count } from '../../shared/format';
import { useId, useState, type ReactNode } from 'react';
import { useSearchParams } from 'react-router';
import { useProject } from '../../data/project';
import { inputClass } from '../../shared/ui/input';
import type { TableSummary } from '../../worker/protocol';

/** The table in the address, or the first of a layer: a starter can be opened from a table's page. */
export function useSourceTable(
  preferred: (table: TableSummary) => boolean,
): [TableSummary | undefined, (name: string) => void] {
  const { tables } = useProject();
  const [search, setSearch] = useSearchParams();
  const asked = search.get('table');
  const table =
    (asked === null ? undefined : tables.get(asked)) ?? [...tables.values()].find(preferred) ?? [...tables.values()][0];
  return [table, (name) => setSearch({ table: name }, { replace: true })];
}

/** Options of one list; longer ones are filtered by typing. */
const MOST_OPTIONS = 500;

export function TableSelect({
  label,
  value,
  onChange,
  tables,
}: {
  label: string;
  value: string | undefined;
  onChange: (name: string) => void;
  tables?: readonly TableSummary[];
}) {
  const project = useProject();
  const [filter, setFilter] = useState('');
  const all = tables ?? [...project.tables.values()];
  const isLong = all.length > MOST_OPTIONS;
  const matching = isLong
    ? all.filter((t) => t.fullName === value || t.fullName.includes(filter.trim().toLowerCase()))
    : all;
  const list = matching.slice(0, MOST_OPTIONS);
  const layers = [...new Set(list.map((t) => t.layer))];
  const id = useId();
  return (
    <div className="flex flex-col text-small">
      <label htmlFor={id}>{label}</label>
      {isLong && (
        <input
          aria-label={`Filter ${label.toLowerCase()}`}
          placeholder={`Filter ${count(all.length)} tables`}
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
          className={`${inputClass} mb-1`}
        />
      )}
      <select
        id={id}
        value={value ?? ''}
        onChange={(e) => onChange(e.target.value)}
        className={`${inputClass} font-mono text-small`}
      >
        {value === undefined && <option value="">choose a table</option>}
        {layers.map((layer) => (
          <optgroup key={layer} label={layer}>
            {list
              .filter((t) => t.layer === layer)
              .map((t) => (
                <option key={t.fullName} value={t.fullName}>
                  {t.fullName}
                </option>
              ))}
          </optgroup>
        ))}
        {matching.length > list.length && (
          <option disabled>{`and ${count(matching.length - list.length)} more: filter them`}</option>
        )}
      </select>
    </div>
  );
}

export function ColumnSelect({
  label,
  columns,
  value,
  onChange,
  none,
}: {
  label: string;
  columns: readonly { readonly name: string }[];
  value: string | undefined;
  onChange: (name: string | undefined) => void;
  none?: string;
}) {
  return (
    <select
      aria-label={label}
      value={value ?? ''}
      onChange={(e) => onChange(e.target.value || undefined)}
      className={`${inputClass} font-mono text-small`}
    >
      {(none !== undefined || value === undefined) && <option value="">{none ?? 'choose'}</option>}
      {columns.map((c) => (
        <option key={c.name}>{c.name}</option>
      ))}
    </select>
  );
}

export function PeriodSelect({
  label,
  value,
  none,
  onChange,
}: {
  label: string;
  value: Period | undefined;
  none: string;
  onChange: (period: Period | undefined) => void;
}) {
  return (
    <select
      aria-label={label}
      value={value ?? ''}
      onChange={(e) => onChange((e.target.value || undefined) as Period | undefined)}
      className={`${inputClass} w-32!`}
    >
      <option value="">{none}</option>
      {PERIODS.map((p) => (
        <option key={p}>{p}</option>
      ))}
    </select>
  );
}

/** Ticks of columns, in the table's order. */
export function ColumnTicks({
  legend,
  columns,
  chosen,
  onChange,
}: {
  legend: string;
  columns: readonly { readonly name: string; readonly type?: string }[];
  chosen: readonly string[];
  onChange: (names: string[]) => void;
}) {
  return (
    <fieldset>
      <legend className="caps mb-1">{legend}</legend>
      <div className="grid grid-cols-[repeat(auto-fill,minmax(150px,1fr))] gap-x-4">
        {columns.map((c) => (
          <label key={c.name} className="flex min-h-control-small items-center gap-2 truncate">
            <input
              type="checkbox"
              checked={chosen.includes(c.name)}
              onChange={(e) =>
                onChange(
                  columns.map((o) => o.name).filter((n) => (n === c.name ? e.target.checked : chosen.includes(n))),
                )
              }
            />
            <span className="truncate">{c.name}</span>
          </label>
        ))}
      </div>
    </fieldset>
  );
}

export function ConditionField({
  label,
  value,
  onChange,
  placeholder,
}: {
  label: string;
  value: string;
  onChange: (sql: string) => void;
  placeholder?: string;
}) {
  return (
    <label className="flex flex-col text-small">
      {label}
      <input
        value={value}
        placeholder={placeholder}
        onChange={(e) => onChange(e.target.value)}
        spellCheck={false}
        className={`${inputClass} font-mono text-small`}
      />
    </label>
  );
}

/** State that starts again when what it is about changes. */
export function useStateFor<T>(key: string, initial: () => T): [T, (next: T) => void] {
  const [held, setHeld] = useState(() => ({ key, value: initial() }));
  const value = held.key === key ? held.value : initial();
  return [value, (next) => setHeld({ key, value: next })];
}

export function Row({ children }: { children: ReactNode }) {
  return <div className="flex flex-wrap items-center gap-2 border-b border-line py-1">{children}</div>;
}

/** The name of a table without its layer. */
export const bareName = (fullName: string) => fullName.slice(fullName.indexOf('.') + 1);
