import {
  fromRelated,
  JOIN_KINDS,
  type JoinKind,
  multiplies,
  relationPairs,
  relationsFromValues,
  roleOf,
  stepsFrom,
  type JoinedTable,
  type Measure,
  type Relation,
  type Step,
} from '@ouvrage/core/starter';
import { useMemo, useState } from 'react';
import { useProject } from '../../data/project';
import { percent, plural } from '../../shared/format';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Tag } from '../../shared/ui/tag';
import { Button } from '../../shared/ui/button';
import { inputClass } from '../../shared/ui/input';
import { JoinCounts } from './join-counts';
import { Measures } from './measures';
import { bareName, ColumnTicks, TableSelect, useSourceTable, useStateFor } from './parts';
import { RelationDiagram, type DiagramEdge, type DiagramTable } from './relation-diagram';
import { StarterSheet } from './starter-sheet';
import { useSharedValues } from './use-shared-values';

interface Picked {
  readonly parent: number;
  readonly step: Step;
  readonly columns: readonly string[];
  readonly aggregate: readonly Measure[] | undefined;
  readonly kind?: JoinKind;
}

const stepKey = (parent: number, s: Step) => `${parent} ${s.to} ${s.fromColumns.join()} ${s.toColumns.join()}`;

/** Columns of a table and of the tables around it, joined along their relations. */
export function Related() {
  const { tables, summary } = useProject();
  const [base, choose] = useSourceTable((t) => t.layer === 'staging');
  const key = base?.fullName ?? '';
  const [columns, setColumns] = useStateFor<string[]>(key, () => (base?.columns ?? []).map((c) => c.name));
  const [picked, setPicked] = useStateFor<readonly Picked[]>(key, () => []);
  const change = setPicked;
  const joins = picked.map((p): JoinedTable => ({
    parent: p.parent,
    step: p.step,
    columns: namesFor(p, columns),
    ...(p.aggregate?.length ? { aggregate: p.aggregate } : {}),
    ...(p.kind ? { kind: p.kind } : {}),
  }));
  const choices = { base: key, columns: columns.map((column) => ({ column, name: column })), joins };
  const taken = columns.length + joins.reduce((n, j) => n + (j.aggregate?.length ?? j.columns.length), 0);
  const sql = fromRelated(choices);
  const values = useSharedValues();
  const [guessed, setGuessed] = useStateFor<readonly Relation[]>(key, () => []);
  const relations = useMemo(() => [...summary.relations, ...guessed], [summary.relations, guessed]);
  const lookAtValues = async () => {
    const keyed = [...tables.values()].map(({ fullName, layer, columns: of = [] }) => ({
      fullName,
      layer,
      columns: of,
      key: of.filter((c) => c.isKey).map((c) => c.name),
    }));
    const answers = await values.look(relationPairs(keyed, key, relations));
    if (answers) setGuessed([...guessed, ...relationsFromValues(answers)]);
  };

  const stepsAt = (parent: number, table: string) =>
    stepsFrom(relations, table).filter((s) => parent < 0 || !(s.to === picked[parent]!.step.from && !s.toOne));
  const [view, setView] = useState<'list' | 'diagram'>('list');
  const columnsOf = (table: string) => (tables.get(table)?.columns ?? []).map((c) => c.name);
  /** The base, what hangs on it, and what hangs on the tables that are picked already. */
  const drawn = useMemo(() => {
    const boxes: DiagramTable[] = [
      {
        id: 'base',
        table: key,
        columns: columnsOf(key),
        ticked: columns,
        many: false,
        onTick: (c, on) => setColumns(columnsOf(key).filter((n) => (n === c ? on : columns.includes(n)))),
      },
    ];
    const lines: DiagramEdge[] = [];
    const hang = (parent: number, from: string, table: string) => {
      for (const step of stepsAt(parent, table)) {
        const id = stepKey(parent, step);
        const index = picked.findIndex((p) => p.parent === parent && stepKey(parent, p.step) === id);
        const ticked = picked[index]?.columns ?? [];
        const onTick = (c: string, on: boolean) => {
          const chosen = columnsOf(step.to).filter((n) => (n === c ? on : ticked.includes(n)));
          if (index < 0) change([...picked, { parent, step, columns: chosen, aggregate: undefined }]);
          else if (chosen.length === 0 && !picked.some((p) => p.parent === index)) change(without(picked, index));
          else change(picked.map((p, j) => (j === index ? { ...p, columns: chosen } : p)));
        };
        boxes.push({
          id,
          table: step.to,
          columns: step.toOne ? columnsOf(step.to) : [],
          ticked,
          many: !step.toOne,
          ...(step.toOne ? { onTick } : {}),
        });
        lines.push({ from, to: id, step });
        if (index >= 0 && step.toOne && boxes.length < 30) hang(index, id, step.to);
      }
    };
    hang(-1, 'base', key);
    return { tables: boxes, edges: lines };
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [key, columns, picked, tables, relations]);

  const place = (parent: number, table: string, depth: number) => (
    <ul>
      {stepsAt(parent, table).map((s) => {
        const index = picked.findIndex((p) => p.parent === parent && stepKey(parent, p.step) === stepKey(parent, s));
        return (
          <li key={stepKey(parent, s)} style={{ paddingLeft: depth ? 18 : 0 }} className="border-b border-line py-1">
            <label className="flex items-center gap-2">
              <input
                type="checkbox"
                checked={index >= 0}
                onChange={(e) =>
                  change(
                    e.target.checked
                      ? [
                          ...picked,
                          {
                            parent,
                            step: s,
                            columns: [],
                            aggregate: s.toOne ? undefined : [{ kind: 'count', name: `${bareName(s.to)}_count` }],
                          },
                        ]
                      : without(picked, index),
                  )
                }
              />
              <span className="font-medium">{s.to}</span>
              <span className="truncate font-mono text-small text-soft">
                {s.toColumns.join(', ')} = {s.fromColumns.join(', ')}
              </span>
              {!s.declared && (
                <Tag tone="advisory">
                  {s.share === undefined ? 'guessed from names' : `guessed: ${percent(s.share)} of values found`}
                </Tag>
              )}
              {!s.toOne && <Tag>several rows</Tag>}
            </label>
            {index >= 0 && (
              <div className="py-1 pl-6">
                <PickedColumns
                  picked={picked[index]!}
                  onChange={(next) => change(picked.map((p, j) => (j === index ? next : p)))}
                />
                {s.toOne && depth < 2 && place(index, s.to, depth + 1)}
              </div>
            )}
          </li>
        );
      })}
    </ul>
  );
  return (
    <StarterSheet
      title="From related tables"
      layer="core"
      queries={
        base && taken > 0
          ? [{ name: `${bareName(key)}_with_${picked[0] ? bareName(picked[0].step.to) : 'nothing'}`, sql }]
          : []
      }
      wants={taken ? undefined : 'Tick a column.'}
    >
      <TableSelect
        label="Base table"
        value={base?.fullName}
        onChange={choose}
        tables={[...tables.values()].filter((t) => t.columns)}
      />
      <div role="group" aria-label="Shown as" className="flex gap-1">
        {(['list', 'diagram'] as const).map((v) => (
          <button
            key={v}
            type="button"
            aria-pressed={view === v}
            onClick={() => setView(v)}
            className={`h-control-small rounded-edge border px-2 ${view === v ? 'border-plan bg-wash text-plan' : 'border-line hover:bg-raised'}`}
          >
            {v === 'list' ? 'List' : 'Diagram'}
          </button>
        ))}
      </div>
      {view === 'diagram' && base && (
        <div className="h-110 shrink-0 border border-line bg-sheet">
          <RelationDiagram tables={drawn.tables} edges={drawn.edges} />
        </div>
      )}
      {view === 'list' && (
        <ColumnTicks legend="Its columns" columns={base?.columns ?? []} chosen={columns} onChange={setColumns} />
      )}
      <section aria-label="Related tables" className={view === 'list' ? '' : 'hidden'}>
        <h3 className="caps mb-1">Tables around it</h3>
        {stepsAt(-1, key).length === 0 && (
          <p className="text-soft">
            No relation leads from this table. Declare one with foreign key or references in its contract.
          </p>
        )}
        {place(-1, key, 0)}
      </section>
      <div className="flex items-center gap-3">
        <Button disabled={!base || values.looking} onClick={() => void lookAtValues()}>
          Look for relations in the values
        </Button>
        {values.told && (
          <p role="status">
            {values.told} {guessed.length ? `${plural(guessed.length, 'relation')} guessed.` : 'No relation found.'}
          </p>
        )}
      </div>
      {values.problem && <ProblemNote problem={values.problem} />}
      {multiplies(choices) && (
        <p className="border-l-3 border-advisory bg-raised px-3 py-2">
          A table with several rows for one of the base is joined as it is: rows are multiplied. Summarise it first,
          with a measure.
        </p>
      )}
      {base && picked.length > 0 && <JoinCounts text={sql} base={key} />}
    </StarterSheet>
  );
}

/** Without a joined table and what was joined to it. */
function without(picked: readonly Picked[], index: number): Picked[] {
  const gone = new Set([index]);
  picked.forEach((p, i) => gone.has(p.parent) && gone.add(i));
  const kept = picked.map((_, i) => i).filter((i) => !gone.has(i));
  return kept.map((i) => ({ ...picked[i]!, parent: picked[i]!.parent < 0 ? -1 : kept.indexOf(picked[i]!.parent) }));
}

/** Columns under their own names, or with the role before them where the base has the name, or the table is in a role. */
function namesFor(p: Picked, base: readonly string[]): JoinedTable['columns'] {
  const role = roleOf(p.step);
  const inRole = role !== bareName(p.step.to);
  return p.columns.map((column) => ({
    column,
    name: (inRole || base.includes(column)) && !column.startsWith(`${role}_`) ? `${role}_${column}` : column,
  }));
}

const KIND_WORDS: Readonly<Record<JoinKind, string>> = {
  left: 'stay (left join)',
  inner: 'are left out (join)',
  full: 'stay, those of this table too (full join)',
};

function PickedColumns({ picked, onChange }: { picked: Picked; onChange: (next: Picked) => void }) {
  const { tables } = useProject();
  const columns = tables.get(picked.step.to)?.columns ?? [];
  return (
    <>
      <label className="flex items-center gap-2 pb-1">
        rows without a partner
        <select
          aria-label={`Rows without a partner in ${picked.step.to}`}
          value={picked.kind ?? 'left'}
          onChange={(e) => onChange({ ...picked, kind: e.target.value as JoinKind })}
          className={`${inputClass} w-72!`}
        >
          {JOIN_KINDS.map((k) => (
            <option key={k} value={k}>
              {KIND_WORDS[k]}
            </option>
          ))}
        </select>
      </label>
      {!picked.step.toOne && (
        <label className="flex items-center gap-2 pb-1">
          <input
            type="checkbox"
            checked={picked.aggregate !== undefined}
            onChange={(e) =>
              onChange({
                ...picked,
                aggregate: e.target.checked
                  ? [{ kind: 'count', name: `${bareName(picked.step.to)}_count` }]
                  : undefined,
              })
            }
          />
          summarise to one row first
        </label>
      )}
      {picked.aggregate ? (
        <Measures
          columns={columns}
          measures={picked.aggregate}
          onChange={(aggregate) => onChange({ ...picked, aggregate })}
        />
      ) : (
        <ColumnTicks
          legend={`Columns of ${picked.step.to}`}
          columns={columns}
          chosen={picked.columns}
          onChange={(chosen) => onChange({ ...picked, columns: chosen })}
        />
      )}
    </>
  );
}
