import { matchByValues, matchColumns, stackPairs, stackTables, type StackedColumn } from '@ouvrage/core/starter';
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
    if (answers) setColumns(matchByValues(sources, columns, answers));
  };
  const change = (i: number, changes: Partial<StackedColumn>) =>
    setColumns(columns.map((c, j) => (j === i ? { ...c, ...changes } : c)));
  const untyped = columns.filter((c) => !c.type);
  const wants =
    sources.length < 2
      ? 'Choose two tables or more.'
      : untyped.length
        ? `Say the type of ${untyped.map((c) => c.name).join(', ')}: the tables’ types cannot be unified without a decision.`
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
      {sources.length > 1 && (
        <table className="w-full text-left">
          <thead>
            <tr className="border-b border-rule text-small">
              {['column', 'type', ...sources.map((s) => s.fullName), ''].map((h, i) => (
                <th key={i} className="px-1.5 py-1 font-medium">
                  {h || <span className="sr-only">action</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {columns.map((c, i) => (
              <tr key={i} className="border-b border-line">
                <td className="px-1.5 py-1">
                  <input
                    aria-label={`Name of column ${i + 1}`}
                    value={c.name}
                    onChange={(e) => change(i, { name: e.target.value })}
                    className={`${inputClass} w-32! font-mono text-small`}
                  />
                </td>
                <td className="px-1.5">
                  <input
                    aria-label={`Type of ${c.name}`}
                    value={c.type ?? ''}
                    placeholder="say one"
                    aria-invalid={!c.type}
                    onChange={(e) => change(i, { type: e.target.value || undefined })}
                    className={`${inputClass} w-28! font-mono text-small ${c.type ? '' : 'border-broken!'}`}
                  />
                </td>
                {sources.map((s, t) => (
                  <td key={s.fullName} className="px-1.5">
                    <ColumnSelect
                      label={`${c.name} in ${s.fullName}`}
                      columns={s.columns}
                      value={c.from[t] ?? undefined}
                      none="null"
                      onChange={(name) => change(i, { from: c.from.map((f, j) => (j === t ? (name ?? null) : f)) })}
                    />
                  </td>
                ))}
                <td>
                  <Button
                    tone="quiet"
                    aria-label={`Leave out ${c.name}`}
                    onClick={() => setColumns(columns.filter((_, j) => j !== i))}
                  >
                    ×
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
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
