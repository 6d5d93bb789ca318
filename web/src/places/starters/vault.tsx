import { DateField } from '../../shared/ui/date-field';
import { vaultTables, type VaultEntity } from '@ouvrage/core/starter';
import { useState } from 'react';
import { useProject } from '../../data/project';
import { inputClass } from '../../shared/ui/input';
import { bareName, ColumnSelect, ColumnTicks, TableSelect, useSourceTable, useStateFor } from './parts';
import { StarterSheet } from './starter-sheet';
import { present } from '../../data/time';

/** Hubs, links and a satellite over one source, with tables that make them easy to read. */
export function Vault() {
  const { summary, tables } = useProject();
  const [table, choose] = useSourceTable((t) => t.layer === 'staging');
  const columns = table?.columns ?? [];
  const of = table?.fullName ?? '';
  const [name, setName] = useStateFor(of, () => bareName(of || 'x'));
  const [key, setKey] = useStateFor<string[]>(of, () => columns.filter((c) => c.isKey).map((c) => c.name));
  const [attributes, setAttributes] = useStateFor<string[] | undefined>(of, () => undefined);
  const relations = summary.relations.filter(
    (r) => r.from === of && r.to !== of && !r.fromColumns.some((c) => key.includes(c)),
  );
  const [linked, setLinked] = useStateFor<Readonly<Record<string, string>>>(of, () =>
    Object.fromEntries(relations.map((r) => [r.fromColumns.join(), bareName(r.to)])),
  );
  const [byHand, setByHand] = useStateFor<readonly { readonly column: string; readonly name: string }[]>(of, () => []);
  const [pointInTime, setPointInTime] = useState(false);
  const year = new Date(present()).getFullYear();
  const [days, setDays] = useState({ from: `${year}-01-01`, to: `${year}-12-31` });
  const [bridge, setBridge] = useState(false);
  const column = (c: string) => columns.find((k) => k.name === c) ?? { name: c };
  const related: VaultEntity[] = [
    ...relations.flatMap((r) => {
      const called = linked[r.fromColumns.join()];
      return called
        ? [{ name: called, key: r.fromColumns.map(column), also: { table: r.to, columns: r.toColumns } }]
        : [];
    }),
    ...byHand.map((h) => ({ name: h.name, key: [column(h.column)] })),
  ];
  const rest = columns.filter((c) => !key.includes(c.name)).map((c) => c.name);
  const described = attributes ?? rest.filter((c) => !related.some((e) => e.key.some((k) => k.name === c)));
  const names = [name, ...related.map((e) => e.name)];
  const wants = !key.length
    ? 'Tick the business key: what tells one from another.'
    : names.some((n) => !/^[a-z_][a-z0-9_]*$/.test(n))
      ? 'Names have lower-case letters, digits and underscores.'
      : new Set(names).size < names.length
        ? 'Two of them have the same name.'
        : undefined;
  const made = wants
    ? []
    : vaultTables({
        source: of,
        entity: { name, key: key.map(column) },
        attributes: described.map(column),
        related,
        bridge,
        ...(pointInTime ? { pointInTime: days } : {}),
      });
  const queries = made.map((t) => ({ name: t.name, sql: (_: string, full: (n: string) => string) => t.sql(full) }));
  return (
    <StarterSheet title="Raw vault" layer="core" queries={table ? queries : []} wants={wants}>
      <div className="flex flex-wrap items-end gap-3">
        <TableSelect label="Rows from" value={table?.fullName} onChange={choose} />
        <label className="flex flex-col text-small">
          one of them is a
          <input
            value={name}
            onChange={(e) => setName(e.target.value)}
            className={`${inputClass} w-40! font-mono text-small`}
          />
        </label>
      </div>
      <ColumnTicks legend="Business key" columns={columns} chosen={key} onChange={setKey} />
      <section aria-label="Links" className="flex flex-col gap-1.5">
        <h3 className="caps">Linked with</h3>
        {relations.length === 0 && (
          <p className="text-soft">It references no known table: name columns that are keys of something else.</p>
        )}
        {relations.map((r) => {
          const by = r.fromColumns.join();
          const called = linked[by];
          const change = (next: string | undefined) => {
            const { [by]: _, ...others } = linked;
            setLinked(next === undefined ? others : { ...others, [by]: next });
          };
          return (
            <div key={`${by} ${r.to}`} className="flex flex-wrap items-center gap-2">
              <label className="flex items-center gap-2">
                <input
                  type="checkbox"
                  checked={called !== undefined}
                  onChange={(e) => change(e.target.checked ? bareName(r.to) : undefined)}
                />
                <span className="font-mono text-small">{r.fromColumns.join(', ')}</span> of{' '}
                {tables.get(r.to)?.fullName ?? r.to}
              </label>
              {called !== undefined && (
                <input
                  aria-label={`What ${by} is called`}
                  value={called}
                  onChange={(e) => change(e.target.value)}
                  className={`${inputClass} w-36! font-mono text-small`}
                />
              )}
              {!r.declared && <span className="text-small text-soft">a guess</span>}
            </div>
          );
        })}
        {byHand.map((h) => (
          <div key={h.column} className="flex flex-wrap items-center gap-2">
            <label className="flex items-center gap-2">
              <input type="checkbox" checked onChange={() => setByHand(byHand.filter((o) => o !== h))} />
              <span className="font-mono text-small">{h.column}</span>
            </label>
            <input
              aria-label={`What ${h.column} is called`}
              value={h.name}
              onChange={(e) => setByHand(byHand.map((o) => (o === h ? { ...h, name: e.target.value } : o)))}
              className={`${inputClass} w-36! font-mono text-small`}
            />
          </div>
        ))}
        <div className="w-64">
          <ColumnSelect
            label="Another key"
            columns={columns.filter(
              (c) => !key.includes(c.name) && !related.some((e) => e.key.some((k) => k.name === c.name)),
            )}
            value={undefined}
            none="another key …"
            onChange={(c) => c && setByHand([...byHand, { column: c, name: c.replace(/_(no|id|code|key)$/, '') }])}
          />
        </div>
      </section>
      <ColumnTicks
        legend="Satellite columns"
        columns={columns.filter((c) => !key.includes(c.name))}
        chosen={described}
        onChange={setAttributes}
      />
      <section aria-label="Tables to read it by" className="flex flex-col gap-1.5">
        <h3 className="caps">Tables to read it by</h3>
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={pointInTime} onChange={(e) => setPointInTime(e.target.checked)} /> which
          version held at the end of each day
        </label>
        {pointInTime && (
          <div className="flex gap-3 pl-6">
            {(['from', 'to'] as const).map((end) => (
              <DateField key={end} label={end} value={days[end]} onChange={(day) => setDays({ ...days, [end]: day })} />
            ))}
          </div>
        )}
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            checked={bridge}
            disabled={related.length === 0}
            onChange={(e) => setBridge(e.target.checked)}
          />{' '}
          a bridge over all links
        </label>
      </section>
    </StarterSheet>
  );
}
