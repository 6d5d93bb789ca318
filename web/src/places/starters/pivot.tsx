import {
  hasPeriods,
  pivot,
  pivotNames,
  pivotValuesQuery,
  unpivot,
  type Measure,
  type MeasureKind,
  type Period,
} from '@ouvrage/core/starter';
import { useEffect, useState } from 'react';
import { usePreviewMutation } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Button } from '../../shared/ui/button';
import { bareName, ColumnSelect, ColumnTicks, PeriodSelect, TableSelect, useSourceTable, useStateFor } from './parts';
import { StarterSheet } from './starter-sheet';

const MOST_VALUES = 60;
const KINDS: readonly MeasureKind[] = ['sum', 'count', 'distinct', 'least', 'greatest', 'average'];

/** Values of rows as columns, or columns as rows. */
export function PivotRows() {
  const [back, setBack] = useState(false);
  const choice = (
    <div role="radiogroup" aria-label="Direction" className="flex gap-2">
      {[false, true].map((b) => (
        <button
          key={String(b)}
          type="button"
          role="radio"
          aria-checked={back === b}
          onClick={() => setBack(b)}
          className={`h-control rounded-edge border px-3 ${back === b ? 'border-plan bg-wash text-plan' : 'border-rule bg-raised'}`}
        >
          {b ? 'Columns to rows' : 'Rows to columns'}
        </button>
      ))}
    </div>
  );
  return back ? <ToRows choice={choice} /> : <ToColumns choice={choice} />;
}

function ToColumns({ choice }: { choice: React.ReactNode }) {
  const { slug } = useProject();
  const [table, choose] = useSourceTable((t) => t.layer === 'core');
  const columns = table?.columns ?? [];
  const key = table?.fullName ?? '';
  const [by, setBy] = useStateFor<string[]>(key, () => []);
  const [across, setAcross] = useStateFor<string | undefined>(key, () => undefined);
  const [chosenPeriod, setPeriod] = useStateFor<Period | undefined>(`${key} ${across ?? ''}`, () => undefined);
  const isMoment = hasPeriods(columns.find((c) => c.name === across)?.type);
  const period = isMoment ? chosenPeriod : undefined;
  const [measure, setMeasure] = useStateFor<Omit<Measure, 'name'>>(key, () => ({ kind: 'count' }));
  const [ask, { data, error, isLoading }] = usePreviewMutation();
  const [values, setValues] = useStateFor<readonly { value: string | null; name: string }[]>(
    `${key} ${across ?? ''} ${period ?? ''}`,
    () => [],
  );
  useEffect(() => {
    if (across === undefined || !table) return;
    void ask({
      slug,
      path: 'adhoc/pivot_values.sql',
      text: pivotValuesQuery({ source: table.fullName, across, ...(period ? { period } : {}) }),
      limit: MOST_VALUES,
    });
  }, [ask, across, period, slug, table]);
  const found = data?.rows.map((r) => r[0] ?? null) ?? [];
  const take = () => {
    const names = pivotNames(found, by, period);
    setValues(found.map((value, i) => ({ value, name: names[i]! })));
  };
  const wants =
    across === undefined
      ? 'Choose the column whose values become columns.'
      : values.length === 0
        ? 'Take the values found in the data.'
        : undefined;
  return (
    <StarterSheet
      title="Pivot"
      layer="mart"
      wants={wants}
      queries={
        table && across !== undefined && wants === undefined
          ? [
              {
                name: `${bareName(table.fullName)}_by_${period ?? across}`,
                sql: pivot({ source: table.fullName, by, across, ...(period ? { period } : {}), values, measure }),
              },
            ]
          : []
      }
    >
      {choice}
      <TableSelect label="Table" value={table?.fullName} onChange={choose} />
      <ColumnTicks
        legend="One row for each"
        columns={columns.filter((c) => c.name !== across)}
        chosen={by}
        onChange={setBy}
      />
      <div className="grid grid-cols-4 gap-3 text-small">
        <label>
          values of
          <ColumnSelect
            label="Column whose values become columns"
            columns={columns}
            value={across}
            onChange={setAcross}
          />
        </label>
        {isMoment && (
          <label>
            by
            <PeriodSelect label="Period of the columns" value={chosenPeriod} none="its values" onChange={setPeriod} />
          </label>
        )}
        <label>
          measure
          <select
            value={measure.kind}
            onChange={(e) =>
              setMeasure({
                ...measure,
                kind: e.target.value as MeasureKind,
                ...(measure.column ? {} : { column: columns[0]?.name ?? '' }),
              })
            }
            className={inputClass}
          >
            {KINDS.map((k) => (
              <option key={k}>{k}</option>
            ))}
          </select>
        </label>
        <label>
          of
          <ColumnSelect
            label="Column of the measure"
            columns={columns}
            value={measure.column}
            {...(measure.kind === 'count' ? { none: 'rows' } : {})}
            onChange={(column) => setMeasure(column === undefined ? { kind: measure.kind } : { ...measure, column })}
          />
        </label>
      </div>
      {error && <ProblemNote problem={error as ProblemBody} />}
      {across !== undefined && (
        <section aria-label="Values" className="flex flex-col gap-1">
          <div className="flex items-center gap-3">
            <h3 className="caps">Columns</h3>
            <Button disabled={isLoading || found.length === 0} onClick={take}>
              {isLoading ? 'Looking for values' : `Take the ${found.length} values found`}
            </Button>
            {data && (data.total === null || data.total > MOST_VALUES) && (
              <span className="text-small text-advisory-text">
                {period ? 'there are more; these are the first' : 'there are more; these are the most frequent'}
              </span>
            )}
          </div>
          {values.map((v, i) => (
            <div key={i} className="flex items-center gap-2 border-b border-line py-1">
              <span className="w-40 truncate font-mono text-small">
                {v.value === null ? <em>null</em> : v.value || '(empty)'}
              </span>
              <input
                aria-label={`Name of the column for ${v.value ?? 'null'}`}
                value={v.name}
                onChange={(e) => setValues(values.map((o, j) => (j === i ? { ...o, name: e.target.value } : o)))}
                className={`${inputClass} w-44! font-mono text-small`}
              />
              <Button
                tone="quiet"
                aria-label={`Leave out ${v.value ?? 'null'}`}
                onClick={() => setValues(values.filter((_, j) => j !== i))}
              >
                ×
              </Button>
            </div>
          ))}
        </section>
      )}
    </StarterSheet>
  );
}

function ToRows({ choice }: { choice: React.ReactNode }) {
  const [table, choose] = useSourceTable((t) => t.layer === 'mart');
  const columns = table?.columns ?? [];
  const key = table?.fullName ?? '';
  const [keep, setKeep] = useStateFor<string[]>(key, () => columns.filter((c) => c.isKey).map((c) => c.name));
  const [turned, setTurned] = useStateFor<string[]>(key, () => []);
  const [names, setNames] = useState({ name: 'name', value: 'value' });
  const [withoutNulls, setWithoutNulls] = useState(true);
  const ready = table && turned.length > 0;
  return (
    <StarterSheet
      title="Pivot"
      layer="mart"
      wants={turned.length ? undefined : 'Choose the columns that become rows.'}
      queries={
        ready
          ? [
              {
                name: `${bareName(table.fullName)}_rows`,
                sql: unpivot({
                  source: table.fullName,
                  keep,
                  columns: turned,
                  nameColumn: names.name,
                  valueColumn: names.value,
                  withoutNulls,
                }),
              },
            ]
          : []
      }
    >
      {choice}
      <TableSelect label="Table" value={table?.fullName} onChange={choose} />
      <ColumnTicks
        legend="Keep"
        columns={columns.filter((c) => !turned.includes(c.name))}
        chosen={keep}
        onChange={setKeep}
      />
      <ColumnTicks
        legend="Become rows"
        columns={columns.filter((c) => !keep.includes(c.name))}
        chosen={turned}
        onChange={setTurned}
      />
      <div className="flex flex-wrap items-end gap-4 text-small">
        <label className="flex flex-col">
          column of names
          <input
            value={names.name}
            onChange={(e) => setNames({ ...names, name: e.target.value })}
            className={`${inputClass} w-40! font-mono text-small`}
          />
        </label>
        <label className="flex flex-col">
          column of values
          <input
            value={names.value}
            onChange={(e) => setNames({ ...names, value: e.target.value })}
            className={`${inputClass} w-40! font-mono text-small`}
          />
        </label>
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={withoutNulls} onChange={(e) => setWithoutNulls(e.target.checked)} /> leave out
          nulls
        </label>
      </div>
    </StarterSheet>
  );
}
