import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { dimensionTable, type OnChange } from '@ouvrage/core/starter';
import { useState } from 'react';
import { inputClass } from '../../shared/ui/input';
import { bareName, ColumnTicks, TableSelect, useSourceTable, useStateFor } from './parts';
import { StarterSheet } from './starter-sheet';

const CHANGES: readonly (readonly [OnChange, string])[] = [
  ['version', 'makes a version'],
  ['overwrite', 'is overwritten everywhere'],
  ['keep', 'is ignored (first value kept)'],
];

/** Columns that say when a row changed: a history says it by its versions. */
const SAID_BY_VERSIONS = /^(changed|updated|modified|loaded)_(at|on)$/;

interface Attribute {
  readonly onChange: OnChange;
  readonly previous: boolean;
}

/** Members of something, each with a key of its own, or versions of them. */
export function Dimension() {
  const [table, choose] = useSourceTable((t) => t.layer === 'staging');
  const columns = table?.columns ?? [];
  const of = table?.fullName ?? '';
  const [key, setKey] = useStateFor<string[]>(of, () => columns.filter((c) => c.isKey).map((c) => c.name));
  const [attributes, setAttributes] = useStateFor<Readonly<Record<string, Attribute>>>(of, () =>
    Object.fromEntries(
      columns.flatMap((c) =>
        SAID_BY_VERSIONS.test(c.name) ? [] : [[c.name, { onChange: 'version', previous: false }]],
      ),
    ),
  );
  const [history, setHistory] = useState(true);
  const [missing, setMissing] = useState<'keep' | 'close' | 'flag' | 'delete'>('keep');
  const [method, setMethod] = useState<'sequence' | 'hash'>('sequence');
  const others = columns.filter((c) => !key.includes(c.name));
  const change = (name: string, next: Attribute | undefined) => {
    const { [name]: _, ...rest } = attributes;
    setAttributes(next ? { ...rest, [name]: next } : rest);
  };
  const wants = key.length ? undefined : 'Tick the business key: what tells one member from another.';
  const sql = (fullName: string) =>
    dimensionTable({
      fullName,
      source: of,
      key,
      keyTypes: key.map((k) => columns.find((c) => c.name === k)?.type),
      attributes: others.flatMap((column) =>
        attributes[column.name] ? [{ column, ...attributes[column.name]! }] : [],
      ),
      history,
      missing,
      method,
    });
  type Candidate = (typeof others)[number];
  const columnsOf: DataColumn<Candidate>[] = [
    {
      id: 'attribute',
      cell: (c) => (
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            checked={attributes[c.name] !== undefined}
            onChange={(e) => change(c.name, e.target.checked ? { onChange: 'version', previous: false } : undefined)}
          />
          {c.name}
        </label>
      ),
    },
    { id: 'type', look: 'font-mono text-small text-soft', cell: (c) => c.type ?? 'text' },
    ...(history ? historyColumns(attributes, change) : []),
  ];
  return (
    <StarterSheet
      title="Dimension"
      layer="core"
      queries={table && !wants ? [{ name: `dim_${bareName(of)}`, sql }] : []}
      wants={wants}
    >
      <TableSelect label="Members from" value={table?.fullName} onChange={choose} />
      <ColumnTicks legend="Business key" columns={columns} chosen={key} onChange={setKey} />
      <div className="flex flex-wrap items-end gap-4">
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            checked={history}
            onChange={(e) => {
              setHistory(e.target.checked);
              setMissing('keep');
            }}
          />
          keep a history
        </label>
        <label className="flex flex-col text-small">
          members that vanish
          <select
            value={missing}
            onChange={(e) => setMissing(e.target.value as typeof missing)}
            className={`${inputClass} w-44!`}
          >
            <option value="keep">stay</option>
            {history ? (
              <option value="close">have their version closed</option>
            ) : (
              <>
                <option value="flag">are marked</option>
                <option value="delete">are deleted</option>
              </>
            )}
          </select>
        </label>
        <label className="flex flex-col text-small">
          keys
          <select
            value={method}
            onChange={(e) => setMethod(e.target.value as typeof method)}
            className={`${inputClass} w-52!`}
          >
            <option value="sequence">numbers, assigned once</option>
            <option value="hash">hashes of the business key</option>
          </select>
        </label>
      </div>
      <DataTable isDense columns={columnsOf} rows={others} keyOf={(c) => c.name} />
    </StarterSheet>
  );
}

/** What a change of an attribute does, and whether its earlier value is kept beside. */
const historyColumns = (
  attributes: Readonly<Record<string, Attribute>>,
  change: (name: string, next: Attribute) => void,
): DataColumn<{ readonly name: string }>[] => [
  {
    id: 'a change of it',
    cell: ({ name }) => {
      const attribute = attributes[name];
      return (
        attribute && (
          <select
            aria-label={`A change of ${name}`}
            value={attribute.onChange}
            onChange={(e) =>
              change(name, {
                onChange: e.target.value as OnChange,
                previous: attribute.previous && e.target.value !== 'keep',
              })
            }
            className={inputClass}
          >
            {CHANGES.map(([value, said]) => (
              <option key={value} value={value}>
                {said}
              </option>
            ))}
          </select>
        )
      );
    },
  },
  {
    id: 'earlier value',
    cell: ({ name }) => {
      const attribute = attributes[name];
      return (
        attribute &&
        attribute.onChange !== 'keep' && (
          <input
            type="checkbox"
            aria-label={`Keep the earlier ${name}`}
            checked={attribute.previous}
            onChange={(e) => change(name, { ...attribute, previous: e.target.checked })}
          />
        )
      );
    },
  },
];
