import {
  factTable,
  proposeLookUps,
  shareFoundQuery,
  type DimensionTable,
  type FactLookUp,
} from '@ouvrage/core/starter';
import { useMemo, useState } from 'react';
import { usePreviewMutation } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import { isNumeric, percent } from '../../shared/format';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Button } from '../../shared/ui/button';
import { bareName, ColumnSelect, ColumnTicks, TableSelect, useSourceTable, useStateFor } from './parts';
import { StarterSheet } from './starter-sheet';

/** What happened, one row each: its grain, the keys of its dimensions and its measures. */
export function Fact() {
  const { slug, tables } = useProject();
  const [table, choose] = useSourceTable((t) => t.layer === 'staging');
  const columns = useMemo(() => table?.columns ?? [], [table]);
  const of = table?.fullName ?? '';
  const dimensions = useMemo(
    () =>
      [...tables.values()].flatMap((t): DimensionTable[] =>
        t.dimension?.key.length ? [{ fullName: t.fullName, ...t.dimension, history: t.history !== undefined }] : [],
      ),
    [tables],
  );
  const [key, setKey] = useStateFor<string[]>(of, () => columns.filter((c) => c.isKey).map((c) => c.name));
  const [kept, setKept] = useStateFor<string[]>(of, () => columns.map((c) => c.name));
  const [measures, setMeasures] = useStateFor<string[]>(of, () =>
    columns.filter((c) => isNumeric(c.type) && !/_(id|no|key|code)$/.test(c.name)).map((c) => c.name),
  );
  const [lookUps, setLookUps] = useStateFor<readonly FactLookUp[]>(of, () => proposeLookUps(columns, dimensions));
  const [policy, setPolicy] = useState<'merge' | 'rebuild'>('merge');
  const [ask, { data, error, isLoading, reset }] = usePreviewMutation();
  const change = (next: readonly FactLookUp[]) => {
    reset();
    setLookUps(next);
  };
  const share = (i: number) => {
    const row = data?.rows.find((r) => r[0] === String(i));
    return row && Number(row[1]) > 0 ? Number(row[2]) / Number(row[1]) : undefined;
  };
  const open = lookUps.find((l) => l.by.some((b) => b === ''));
  const twice = lookUps.find((l, i) => lookUps.some((o, j) => j < i && o.name === l.name));
  const wants = !key.length
    ? 'Tick the grain: what one row is about.'
    : open
      ? `Choose the columns by which ${open.name} is looked up.`
      : twice
        ? `Two keys are named ${twice.name}: rename one.`
        : undefined;
  const sql = (fullName: string) =>
    factTable({
      fullName,
      source: of,
      key,
      columns: columns
        .filter((c) => kept.includes(c.name) || key.includes(c.name))
        .map((c) => ({ ...c, measure: measures.includes(c.name) })),
      lookUps,
      policy,
    });
  return (
    <StarterSheet
      title="Fact"
      layer="core"
      queries={table && !wants ? [{ name: `fact_${bareName(of)}`, sql }] : []}
      wants={wants}
    >
      <TableSelect label="What happened, from" value={table?.fullName} onChange={choose} />
      <ColumnTicks legend="Grain: one row per" columns={columns} chosen={key} onChange={setKey} />
      <section aria-label="Keys of dimensions">
        <h3 className="caps mb-1">Keys of dimensions</h3>
        {lookUps.length === 0 && (
          <p className="text-soft">
            {dimensions.length
              ? 'No column has the name of a dimension’s business key. Add a key, and say by what it is looked up.'
              : 'No table of the project has surrogate keys yet: begin with a dimension.'}
          </p>
        )}
        {lookUps.map((l, i) => {
          const found = share(i);
          const put = (changes: Partial<FactLookUp>) =>
            change(lookUps.map((o, j) => (j === i ? { ...o, ...changes } : o)));
          return (
            <div key={i} className="flex flex-wrap items-end gap-2 border-b border-line py-1.5 text-small">
              <label className="flex flex-col">
                key
                <input
                  value={l.name}
                  onChange={(e) => put({ name: e.target.value })}
                  className={`${inputClass} w-36! font-mono text-small`}
                />
              </label>
              <span className="pb-1.5 text-body">in {l.dimension.fullName} by</span>
              {l.dimension.key.map((part, n) => (
                <div key={part} className="w-36">
                  <ColumnSelect
                    label={`${l.name}: ${part}`}
                    columns={columns}
                    value={l.by[n] || undefined}
                    onChange={(name) => put({ by: l.by.map((b, m) => (m === n ? (name ?? '') : b)) })}
                  />
                </div>
              ))}
              {l.dimension.history && (
                <label className="flex w-36 flex-col">
                  as it was at
                  <ColumnSelect
                    label={`${l.name}: at`}
                    columns={columns.filter((c) => /^(timestamp|timestamptz|date)/.test(c.type ?? ''))}
                    value={l.at}
                    none="now"
                    onChange={(at) =>
                      change(
                        lookUps.map((o, j) =>
                          j === i
                            ? { dimension: o.dimension, name: o.name, by: o.by, ...(at === undefined ? {} : { at }) }
                            : o,
                        ),
                      )
                    }
                  />
                </label>
              )}
              {found !== undefined && (
                <span className={`pb-1.5 ${found < 0.95 ? 'text-advisory-text' : ''}`}>{percent(found)} found</span>
              )}
              <span className="flex-1" />
              <Button
                tone="quiet"
                aria-label={`Leave out ${l.name}`}
                onClick={() => change(lookUps.filter((_, j) => j !== i))}
              >
                ×
              </Button>
            </div>
          );
        })}
        <div className="flex items-center gap-3 pt-2">
          <select
            aria-label="Add a key of"
            value=""
            onChange={(e) => {
              const dimension = dimensions.find((d) => d.fullName === e.target.value);
              if (dimension)
                change([...lookUps, { dimension, name: dimension.surrogate, by: dimension.key.map(() => '') }]);
            }}
            className={`${inputClass} w-52!`}
          >
            <option value="">add a key of …</option>
            {dimensions.map((d) => (
              <option key={d.fullName}>{d.fullName}</option>
            ))}
          </select>
          <Button
            disabled={!lookUps.length || open !== undefined || isLoading}
            onClick={() =>
              void ask({
                slug,
                path: 'adhoc/share_found.sql',
                text: shareFoundQuery(of, lookUps),
                limit: lookUps.length,
              })
            }
          >
            Count what is found
          </Button>
        </div>
        {error && <ProblemNote problem={error as ProblemBody} />}
      </section>
      <ColumnTicks
        legend="Measures"
        columns={columns.filter((c) => isNumeric(c.type) && !key.includes(c.name))}
        chosen={measures}
        onChange={setMeasures}
      />
      <ColumnTicks
        legend="Columns that it keeps"
        columns={columns.filter((c) => !key.includes(c.name))}
        chosen={kept}
        onChange={setKept}
      />
      <label className="flex flex-col text-small">
        how it is loaded
        <select
          value={policy}
          onChange={(e) => setPolicy(e.target.value as typeof policy)}
          className={`${inputClass} w-72!`}
        >
          <option value="merge">merge: rows that changed are updated</option>
          <option value="rebuild">rebuild: all rows each time</option>
        </select>
      </label>
    </StarterSheet>
  );
}
