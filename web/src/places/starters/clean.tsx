import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import type { ProblemBody } from '@ouvrage/api/problem';
import { cleanTable, proposeClean, type CleanColumn, type StarterTable } from '@ouvrage/core/starter';
import { useState } from 'react';
import { useCastsMutation, useProfileQuery } from '../../data/rows';
import { count, plural } from '../../shared/format';
import { ProblemNote } from '../../shared/ui/problem-note';
import { useProject } from '../../data/project';
import { inputClass } from '../../shared/ui/input';
import { Loading } from '../../shared/ui/loading';
import { Button } from '../../shared/ui/button';
import { bareName, ConditionField, TableSelect, useSourceTable, useStateFor } from './parts';
import { StarterSheet } from './starter-sheet';

interface State {
  readonly columns: readonly (CleanColumn & { readonly out: boolean })[];
  readonly derived: readonly { readonly name: string; readonly expression: string }[];
  readonly only: string;
}

/** One line a column of a source table: what it is called, and what is done to its values. */
export function Clean() {
  const { slug, tables } = useProject();
  const [table, choose] = useSourceTable((t) => t.kind === 'source');
  const { data: profile, isFetching } = useProfileQuery(
    { slug, table: table?.fullName ?? '', production: false },
    { skip: !table },
  );
  const source = { fullName: table?.fullName ?? '', columns: table?.columns ?? [] };
  const initial = (): State => ({
    columns: proposeClean(source, profile?.columns).map((c) => ({ ...c, out: false })),
    derived: [],
    only: '',
  });
  const [state, set] = useStateFor(`${source.fullName} ${profile ? 'profiled' : ''}`, initial);
  const change = (i: number, changes: Partial<State['columns'][number]>) =>
    set({ ...state, columns: state.columns.map((c, j) => (j === i ? { ...c, ...changes } : c)) });
  const kept = state.columns.filter((c) => !c.out);
  const sql = cleanTable({
    source,
    columns: kept,
    derived: state.derived.filter((d) => d.name !== '' && d.expression.trim() !== ''),
    ...(state.only.trim() ? { only: state.only } : {}),
  });
  const numbered = state.columns.map((c, i) => ({ ...c, i }));
  return (
    <StarterSheet
      title="Clean a source table"
      queries={table && kept.length ? [{ name: bareName(table.fullName), sql }] : []}
      wants={kept.length ? undefined : 'Keep at least one column.'}
    >
      <TableSelect
        label="Source"
        value={table?.fullName}
        onChange={choose}
        tables={[...tables.values()].filter((t) => t.columns)}
      />
      {isFetching && !profile ? (
        <Loading what="Reading values to propose changes" />
      ) : (
        <div className="shrink-0 overflow-x-auto">
          <DataTable
            isDense
            columns={cleanColumns(change, (name) => source.columns.find((s) => s.name === name)?.type)}
            rows={numbered}
            keyOf={(c) => c.from}
          />
        </div>
      )}
      {table && <FailedCasts source={source} columns={kept} only={state.only} />}
      <Decodes state={state} set={set} />
      <Derived state={state} set={set} />
      <ConditionField
        label="Only rows where"
        value={state.only}
        onChange={(only) => set({ ...state, only })}
        placeholder="all rows"
      />
    </StarterSheet>
  );
}

/** Counts the values that a cast does not take, before a query fails at the first of them. */
function FailedCasts({
  source,
  columns,
  only,
}: {
  source: StarterTable;
  columns: readonly CleanColumn[];
  only: string;
}) {
  const { slug } = useProject();
  const [ask, { data, error, isLoading }] = useCastsMutation();
  const casts = columns.flatMap(({ name, cast }) => (cast ? [{ column: name, type: cast }] : []));
  const uncast = columns.map(({ cast: _, fallback: __, ...rest }) => rest);
  const text = cleanTable({ source, columns: uncast, derived: [], ...(only.trim() ? { only } : {}) });
  // What was counted for other choices says nothing of these.
  const [asked, setAsked] = useState('');
  const about = JSON.stringify([text, casts]);
  const tryAll = () => {
    setAsked(about);
    void ask({ slug, path: 'adhoc/casts.sql', text, casts });
  };
  const failed = data?.casts.filter((c) => c.failing > 0) ?? [];
  return (
    <div className="flex flex-col gap-1">
      <div className="flex items-center gap-3">
        <Button disabled={casts.length === 0 || isLoading} onClick={tryAll}>
          {isLoading ? 'Trying each value' : 'Count values that fail a cast'}
        </Button>
        {data && asked === about && failed.length === 0 && (
          <p role="status">All values fit, in the first {count(data.rowsLookedAt)} rows at most.</p>
        )}
      </div>
      {asked === about && error && <ProblemNote problem={error as ProblemBody} />}
      {asked === about && failed.length > 0 && (
        <ul aria-label="Values that fail a cast" className="border-l-3 border-broken bg-raised px-3 py-1">
          {failed.map((c) => (
            <li key={c.column}>
              <span className="font-medium">{c.column}</span> as <span className="font-mono">{c.type}</span>:{' '}
              {plural(c.failing, 'row')}, {plural(c.different, 'value')}:{' '}
              <span className="font-mono text-small">{c.examples.map((e) => `'${e}'`).join(', ')}</span>
              {c.different > c.examples.length && ' …'}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

const withOptional = (key: 'cast' | 'fallback', value: string): Partial<CleanColumn> => ({
  [key]: value === '' ? undefined : value,
});

const nullTextsOf = (typed: string): string[] =>
  typed.trim() === '' ? [] : typed.split(',').map((t) => (t.trim() === "''" ? '' : t.trim()));

function Decodes({ state, set }: { state: State; set: (next: State) => void }) {
  const decoded = state.columns.filter((c) => c.decode && !c.out);
  const free = state.columns.filter((c) => !c.decode && !c.out && c.trim !== undefined);
  const change = (from: string, decode: CleanColumn['decode']) =>
    set({
      ...state,
      columns: state.columns.map((c) => {
        if (c.from !== from) return c;
        const { decode: _, ...rest } = c;
        return decode ? { ...rest, decode } : rest;
      }),
    });
  return (
    <section aria-label="Codes" className="flex flex-col gap-1">
      <div className="flex items-center gap-3">
        <h3 className="caps">Codes in words</h3>
        {free.length > 0 && (
          <select
            aria-label="Decode a column"
            value=""
            onChange={(e) => change(e.target.value, [['', '']])}
            className={`${inputClass} w-44!`}
          >
            <option value="">decode a column</option>
            {free.map((c) => (
              <option key={c.from}>{c.from}</option>
            ))}
          </select>
        )}
      </div>
      {decoded.map((c) => (
        <div key={c.from} className="flex flex-wrap items-center gap-2 border-b border-line py-1">
          <span className="w-28 truncate font-medium">{c.from}</span>
          {c.decode!.map(([code, said], i) => {
            const pair = (next: readonly [string, string]) =>
              change(
                c.from,
                c.decode!.map((p, j) => (j === i ? next : p)),
              );
            return (
              <span key={i} className="flex items-center gap-1">
                <input
                  aria-label={`Code ${i + 1} of ${c.from}`}
                  value={code}
                  onChange={(e) => pair([e.target.value, said])}
                  className={`${inputClass} w-16! font-mono text-small`}
                />
                is
                <input
                  aria-label={`Word ${i + 1} of ${c.from}`}
                  value={said}
                  onChange={(e) => pair([code, e.target.value])}
                  className={`${inputClass} w-28! font-mono text-small`}
                />
              </span>
            );
          })}
          <Button tone="quiet" onClick={() => change(c.from, [...c.decode!, ['', '']])}>
            One more
          </Button>
          <Button tone="quiet" onClick={() => change(c.from, undefined)}>
            Do not decode
          </Button>
        </div>
      ))}
    </section>
  );
}

function Derived({ state, set }: { state: State; set: (next: State) => void }) {
  const change = (i: number, changes: Partial<State['derived'][number]>) =>
    set({ ...state, derived: state.derived.map((d, j) => (j === i ? { ...d, ...changes } : d)) });
  return (
    <section aria-label="Derived columns" className="flex flex-col gap-1">
      <h3 className="caps">Derived columns</h3>
      {state.derived.map((d, i) => (
        <div key={i} className="flex items-center gap-2">
          <input
            aria-label={`Name of derived column ${i + 1}`}
            placeholder="name"
            value={d.name}
            onChange={(e) => change(i, { name: e.target.value })}
            className={`${inputClass} w-40! font-mono text-small`}
          />
          <input
            aria-label={`Expression of derived column ${i + 1}`}
            placeholder="SQL over the source’s columns"
            value={d.expression}
            spellCheck={false}
            onChange={(e) => change(i, { expression: e.target.value })}
            className={`${inputClass} font-mono text-small`}
          />
          <Button
            tone="quiet"
            aria-label={`Remove derived column ${i + 1}`}
            onClick={() => set({ ...state, derived: state.derived.filter((_, j) => j !== i) })}
          >
            ×
          </Button>
        </div>
      ))}
      <div>
        <Button onClick={() => set({ ...state, derived: [...state.derived, { name: '', expression: '' }] })}>
          Add a column
        </Button>
      </div>
    </section>
  );
}

type Numbered = State['columns'][number] & { readonly i: number };

/** What is done to each column. @param typeOf the type of a source's column */
function cleanColumns(
  change: (i: number, changes: Partial<State['columns'][number]>) => void,
  typeOf: (column: string) => string | undefined,
): DataColumn<Numbered>[] {
  const field = (
    label: string,
    width: string,
    { of, value, onChange }: { of: Numbered; value: string; onChange: (v: string) => void },
  ) => (
    <input
      aria-label={`${label} of ${of.from}`}
      value={value}
      disabled={of.out}
      onChange={(e) => onChange(e.target.value)}
      spellCheck={false}
      className={`${inputClass} font-mono text-small ${width} disabled:opacity-50`}
    />
  );
  const isText = (c: Numbered) => c.trim !== undefined;
  return [
    {
      id: 'keep',
      isSilent: true,
      cell: (c) => (
        <input
          type="checkbox"
          aria-label={`Keep ${c.from}`}
          checked={!c.out}
          onChange={(e) => change(c.i, { out: !e.target.checked })}
        />
      ),
    },
    {
      id: 'column',
      look: 'max-w-36',
      cell: ({ from }) => (
        <>
          <span className="block truncate" title={from}>
            {from}
          </span>
          <span className="font-mono text-tiny text-soft">{typeOf(from) ?? 'not known'}</span>
        </>
      ),
    },
    {
      id: 'name',
      cell: (c) => field('Name', 'w-28!', { of: c, value: c.name, onChange: (name) => change(c.i, { name }) }),
    },
    {
      id: 'trim',
      look: 'text-center',
      cell: (c) =>
        isText(c) && (
          <input
            type="checkbox"
            aria-label={`Trim ${c.from}`}
            disabled={c.out}
            checked={c.trim ?? false}
            onChange={(e) => change(c.i, { trim: e.target.checked })}
          />
        ),
    },
    {
      id: 'null values',
      cell: (c) =>
        isText(c) &&
        field('Values treated as null', 'w-24!', {
          of: c,
          value: (c.nullTexts ?? []).map((t) => t || "''").join(', '),
          onChange: (v) => change(c.i, { nullTexts: nullTextsOf(v) }),
        }),
    },
    {
      id: 'cast to',
      cell: (c) =>
        field('Cast', 'w-24!', {
          of: c,
          value: c.cast ?? '',
          onChange: (v) => change(c.i, withOptional('cast', v)),
        }),
    },
    {
      id: 'if null',
      cell: (c) =>
        field('Instead of null', 'w-16!', {
          of: c,
          value: c.fallback ?? '',
          onChange: (v) => change(c.i, withOptional('fallback', v)),
        }),
    },
  ];
}
