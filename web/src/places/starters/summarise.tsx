import { summarise, type Measure } from '@ouvrage/core/starter';
import { useState } from 'react';
import { bareName, ColumnTicks, ConditionField, TableSelect, useSourceTable, useStateFor } from './parts';
import { Measures } from './measures';
import { StarterSheet } from './starter-sheet';

/** Groups of a table, and measures of each. */
export function Summarise() {
  const [table, choose] = useSourceTable((t) => t.layer === 'core');
  const columns = table?.columns ?? [];
  const [by, setBy] = useStateFor<string[]>(table?.fullName ?? '', () => []);
  const [measures, setMeasures] = useStateFor<readonly Measure[]>(table?.fullName ?? '', () => [
    { kind: 'count', name: 'row_count' },
  ]);
  const [only, setOnly] = useState('');
  const sql = summarise({ source: table?.fullName ?? '', by, measures, ...(only.trim() ? { only } : {}) });
  const ready = table && measures.length > 0;
  return (
    <StarterSheet
      title="Summarise"
      layer="mart"
      queries={
        ready
          ? [
              {
                name: by.length ? `${bareName(table.fullName)}_by_${by[0]!}` : `${bareName(table.fullName)}_total`,
                sql,
              },
            ]
          : []
      }
      wants={measures.length ? undefined : 'Add a measure.'}
    >
      <TableSelect label="Table" value={table?.fullName} onChange={choose} />
      <ColumnTicks legend="One row for each" columns={columns} chosen={by} onChange={setBy} />
      <Measures columns={columns} measures={measures} onChange={setMeasures} />
      <ConditionField label="Only rows where" value={only} onChange={setOnly} placeholder="all rows" />
    </StarterSheet>
  );
}
