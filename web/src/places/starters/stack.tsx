import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import {
  loneColumns,
  matchByValues,
  matchColumns,
  matchUnique,
  stackPairs,
  stackTables,
  type StackedColumn,
} from '@ouvrage/core/starter';
import { useState } from 'react';
import { useProject } from '../../data/project';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Button } from '../../shared/ui/button';
import { bareName, ColumnSelect, TableSelect, useSourceTable, useStateFor } from './parts';
import { StarterSheet } from './starter-sheet';
import { useSharedValues } from './use-shared-values';

/** Tables of the same meaning, one below the other. */
export function Stack() {
  const { tables } = useProject();
  const [first] = useSourceTable((t) => t.layer === 'staging');
  const [chosen, setChosen] = useState<readonly string[]>(first ? [first.fullName] : []);
  const sources = chosen.flatMap((name) => {
    const t = tables.get(name);
    return t ? [{ fullName: t.fullName, columns: t.columns ?? [] }] : [];
  });
  const [columns, setColumns] = useStateFor<readonly StackedColumn[]>(chosen.join(), () => matchColumns(sources));
  const [distinct, setDistinct] = useState(false);
  const [origin, setOrigin] = useState('');
  const [order, setOrder] = useState<string>();
  const values = useSharedValues();
  const matchRest = async () => {
    const answers = await values.look(stackPairs(sources, columns));
    if (!answers) return;
    const byValues = matchByValues(sources, columns, answers);
    // Rows of two tables are told apart by columns that share no value.
    const unique = await values.lookUnique(loneColumns(sources, byValues));
    setColumns(unique ? matchUnique(sources, byValues, unique) : byValues);
  };
  const change = (i: number, changes: Partial<StackedColumn>) =>
    setColumns(columns.map((c, j) => (j === i ? { ...c, ...changes } : c)));
  const untyped = columns.filter((c) => !c.type);
  const wants =
    sources.length < 2
      ? 'Choose two tables or more.'
      : untyped.length
        ? `Choose the type of ${untyped.map((c) => c.name).join(', ')}: the tables’ types cannot be unified without a decision.`
        : undefined;
  const sql =
    wants === undefined
      ? stackTables({
          tables: sources,
          columns,
          distinct,
          ...(origin ? { origin: { name: origin, values: sources.map((s) => bareName(s.fullName)) } } : {}),
          ...(order ? { order: [order] } : {}),
        })
      : undefined;
  const numbered = columns.map((c, i) => ({ ...c, i }));
  type Numbered = (typeof numbered)[number];
  const columnsOf: DataColumn<Numbered>[] = [
    {
      id: 'column',
      cell: ({ name, i }) => (
        <input
          aria-label={`Name of column ${i + 1}`}
          value={name}
          onChange={(e) => change(i, { name: e.target.value })}
          className={`${inputClass} w-32! font-mono text-small`}
        />
      ),
    },
    {
      id: 'type',
      cell: ({ name, type, i }) => (
        <input
          aria-label={`Type of ${name}`}
          value={type ?? ''}
          placeholder="type needed"
          aria-invalid={!type}
          onChange={(e) => change(i, { type: e.target.value || undefined })}
          className={`${inputClass} w-28! font-mono text-small ${type ? '' : 'border-broken!'}`}
        />
      ),
    },
    ...sources.map((s, t) => ({
      id: s.fullName,
      cell: ({ name, from, i }: Numbered) => (
        <ColumnSelect
          label={`${name} in ${s.fullName}`}
          columns={s.columns}
          value={from[t] ?? undefined}
          none="null"
          onChange={(next) => change(i, { from: from.map((f, j) => (j === t ? (next ?? null) : f)) })}
        />
      ),
    })),
    {
      id: 'action',
      isSilent: true,
      cell: ({ name, i }) => (
        <Button
          tone="quiet"
          aria-label={`Leave out ${name}`}
          onClick={() => setColumns(columns.filter((_, j) => j !== i))}
        >
          ×
        </Button>
      ),
    },
  ];
  return (
    <StarterSheet
      title="Stack tables"
      queries={sql === undefined ? [] : [{ name: `all_${bareName(chosen[0] ?? 'rows')}`, sql }]}
      wants={wants}
    >
      <div className="flex flex-col gap-2">
        {chosen.map((name, i) => (
          <div key={i} className="flex items-end gap-2">
            <div className="flex-1">
              <TableSelect
                label={`Table ${i + 1}`}
                value={name}
                onChange={(next) => setChosen(chosen.map((c, j) => (j === i ? next : c)))}
              />
            </div>
            <Button
              tone="quiet"
              aria-label={`Remove table ${i + 1}`}
              onClick={() => setChosen(chosen.filter((_, j) => j !== i))}
            >
              ×
            </Button>
          </div>
        ))}
        <div>
          <Button
            onClick={() =>
              setChosen([...chosen, [...tables.keys()].find((t) => !chosen.includes(t)) ?? chosen[0] ?? ''])
            }
          >
            Add a table
          </Button>
        </div>
      </div>
      {sources.length > 1 && <DataTable isDense columns={columnsOf} rows={numbered} keyOf={(c) => c.i} />}
      {sources.length > 1 && columns.some((c) => c.from.includes(null)) && (
        <div className="flex items-center gap-3">
          <Button disabled={values.looking} onClick={() => void matchRest()}>
            Match the rest by values
          </Button>
          {values.told && <p role="status">{values.told}</p>}
        </div>
      )}
      {values.problem && <ProblemNote problem={values.problem} />}
      <div className="flex flex-wrap items-end gap-4">
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={distinct} onChange={(e) => setDistinct(e.target.checked)} /> equal rows once
          only
        </label>
        <label className="flex flex-col text-small">
          column that says the origin
          <input
            value={origin}
            onChange={(e) => setOrigin(e.target.value)}
            placeholder="none"
            className={`${inputClass} w-40! font-mono text-small`}
          />
        </label>
        <label className="flex flex-col text-small">
          order
          <ColumnSelect label="Order" columns={columns} value={order} none="none" onChange={setOrder} />
        </label>
      </div>
    </StarterSheet>
  );
}
