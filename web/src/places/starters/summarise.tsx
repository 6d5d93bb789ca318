import { hasPeriods, keyName, summarise, type GroupKey, type Measure, type Period } from '@ouvrage/core/starter';
import { useState } from 'react';
import { inputClass } from '../../shared/ui/input';
import {
  bareName,
  ColumnSelect,
  ColumnTicks,
  ConditionField,
  PeriodSelect,
  TableSelect,
  useSourceTable,
  useStateFor,
} from './parts';
import { Measures } from './measures';
import { StarterSheet } from './starter-sheet';

/** Groups of a table, and measures of each. */
export function Summarise() {
  const [table, choose] = useSourceTable((t) => t.layer === 'core');
  const columns = table?.columns ?? [];
  const key = table?.fullName ?? '';
  const [chosen, setChosen] = useStateFor<string[]>(key, () => []);
  const [periods, setPeriods] = useStateFor<Readonly<Record<string, Period>>>(key, () => ({}));
  const [measures, setMeasures] = useStateFor<readonly Measure[]>(key, () => [{ kind: 'count', name: 'row_count' }]);
  const [only, setOnly] = useState('');
  const [having, setHaving] = useState('');
  const [order, setOrder] = useStateFor<{ column: string; descending: boolean } | undefined>(key, () => undefined);
  const [most, setMost] = useState('');
  const by = chosen.map((column): GroupKey => {
    const period = periods[column];
    return period === undefined ? column : { column, period };
  });
  const outputs = [...by.map(keyName), ...measures.map((m) => m.name)].map((name) => ({ name }));
  // What is no longer there sorts nothing.
  const sorted = order && outputs.some((o) => o.name === order.column) ? order : undefined;
  const first = /^[1-9]\d{0,8}$/.test(most.trim()) ? Number(most) : undefined;
  const sql = summarise({
    source: key,
    by,
    measures,
    ...(only.trim() ? { only } : {}),
    ...(having.trim() ? { having } : {}),
    ...(sorted ? { order: sorted } : {}),
    ...(first === undefined ? {} : { most: first }),
  });
  const wants =
    measures.length === 0
      ? 'Add a measure.'
      : most.trim() !== '' && first === undefined
        ? 'Write how many groups stay as a whole number, or nothing.'
        : first !== undefined && !sorted
          ? 'Choose by what groups are sorted: without it, which of them come first is left to chance.'
          : undefined;
  const name = by.length ? `${bareName(key)}_by_${keyName(by[0]!)}` : `${bareName(key)}_total`;
  return (
    <StarterSheet
      title="Summarise"
      layer="mart"
      queries={table && wants === undefined ? [{ name, sql }] : []}
      wants={wants}
    >
      <TableSelect label="Table" value={table?.fullName} onChange={choose} />
      <ColumnTicks legend="One row for each" columns={columns} chosen={chosen} onChange={setChosen} />
      <Periods
        columns={columns.filter((c) => chosen.includes(c.name) && hasPeriods(c.type))}
        periods={periods}
        onChange={setPeriods}
      />
      <Measures columns={columns} measures={measures} onChange={setMeasures} />
      <ConditionField label="Only rows where" value={only} onChange={setOnly} placeholder="all rows" />
      <ConditionField
        label="Only groups where"
        value={having}
        onChange={setHaving}
        placeholder="all groups; such as count(*) > 10"
      />
      <div className="flex flex-wrap items-end gap-4 text-small">
        <label className="flex w-44 flex-col">
          sorted by
          <ColumnSelect
            label="Sorted by"
            columns={outputs}
            value={sorted?.column}
            none="nothing"
            onChange={(column) =>
              setOrder(column === undefined ? undefined : { column, descending: order?.descending ?? true })
            }
          />
        </label>
        {sorted && (
          <label className="flex min-h-control items-center gap-2">
            <input
              type="checkbox"
              checked={sorted.descending}
              onChange={(e) => setOrder({ ...sorted, descending: e.target.checked })}
            />
            greatest first
          </label>
        )}
        <label className="flex flex-col">
          only the first
          <input
            value={most}
            inputMode="numeric"
            placeholder="all groups"
            onChange={(e) => setMost(e.target.value)}
            className={`${inputClass} w-24! font-mono text-small`}
          />
        </label>
      </div>
    </StarterSheet>
  );
}

/** For each column of moments: whether its values themselves are grouped by, or the periods in which they lie. */
function Periods({
  columns,
  periods,
  onChange,
}: {
  columns: readonly { readonly name: string }[];
  periods: Readonly<Record<string, Period>>;
  onChange: (next: Readonly<Record<string, Period>>) => void;
}) {
  if (columns.length === 0) return null;
  return (
    <div className="flex flex-wrap gap-4 text-small">
      {columns.map(({ name }) => (
        <label key={name} className="flex flex-col">
          {name} by
          <PeriodSelect
            label={`Period of ${name}`}
            value={periods[name]}
            none="its values"
            onChange={(period) => {
              const { [name]: _, ...others } = periods;
              onChange(period === undefined ? others : { ...others, [name]: period });
            }}
          />
        </label>
      ))}
    </div>
  );
}
