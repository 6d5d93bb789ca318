import { cleanTable, proposeClean, type CleanColumn } from '@ouvrage/core/starter';
import { useProfileQuery } from '../../data/rows';
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
        <Loading what="Looking at the values, to propose what to do" />
      ) : (
        <div className="shrink-0 overflow-x-auto">
          <table className="w-full text-left">
            <thead>
              <tr className="border-b border-rule text-small">
                {['', 'column', 'name', 'trim', 'means nothing', 'cast to', 'if null'].map((h) => (
                  <th key={h} className="px-1 py-1 font-medium">
                    {h || <span className="sr-only">keep</span>}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {state.columns.map((c, i) => {
                const type = source.columns.find((s) => s.name === c.from)?.type;
                const textual = c.trim !== undefined;
                const field = (
                  label: string,
                  value: string,
                  onChange: (v: string) => void,
                  width: string,
                  disabled = false,
                ) => (
                  <input
                    aria-label={`${label} of ${c.from}`}
                    value={value}
                    disabled={c.out || disabled}
                    onChange={(e) => onChange(e.target.value)}
                    spellCheck={false}
                    className={`${inputClass} font-mono text-small ${width} disabled:opacity-50`}
                  />
                );
                return (
                  <tr key={c.from} className="border-b border-line">
                    <td className="px-1 py-1">
                      <input
                        type="checkbox"
                        aria-label={`Keep ${c.from}`}
                        checked={!c.out}
                        onChange={(e) => change(i, { out: !e.target.checked })}
                      />
                    </td>
                    <td className="max-w-36 px-1">
                      <span className="block truncate" title={c.from}>
                        {c.from}
                      </span>
                      <span className="font-mono text-tiny text-soft">{type ?? 'not known'}</span>
                    </td>
                    <td className="px-1">{field('Name', c.name, (name) => change(i, { name }), 'w-28!')}</td>
                    <td className="px-1 text-center">
                      {textual && (
                        <input
                          type="checkbox"
                          aria-label={`Trim ${c.from}`}
                          disabled={c.out}
                          checked={c.trim ?? false}
                          onChange={(e) => change(i, { trim: e.target.checked })}
                        />
                      )}
                    </td>
                    <td className="px-1">
                      {textual &&
                        field(
                          'Values that mean nothing',
                          (c.nullTexts ?? []).map((t) => t || "''").join(', '),
                          (v) => change(i, { nullTexts: nullTextsOf(v) }),
                          'w-24!',
                        )}
                    </td>
                    <td className="px-1">
                      {field('Cast', c.cast ?? '', (cast) => change(i, withOptional('cast', cast)), 'w-24!')}
                    </td>
                    <td className="px-1">
                      {field(
                        'Instead of null',
                        c.fallback ?? '',
                        (v) => change(i, withOptional('fallback', v)),
                        'w-16!',
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
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
            Leave as it is
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
