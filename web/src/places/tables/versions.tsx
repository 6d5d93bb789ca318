import { useForm } from 'react-hook-form';
import { DateField } from '../../shared/ui/date-field';
import { asOfQuery, changedColumns, compareQuery, versionsQuery, type HistoryTable } from '@ouvrage/core/look';
import { useEffect, useMemo, useState } from 'react';
import { usePreviewMutation } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { Rows } from '@ouvrage/api/rows';
import { count, plural } from '../../shared/format';
import { Grid } from '../../shared/grid';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import type { TableSummary } from '../../worker/protocol';
import { present } from '../../data/time';

type Question =
  | { readonly kind: 'as of'; readonly at: string }
  | { readonly kind: 'key'; readonly key: readonly string[] }
  | { readonly kind: 'compare'; readonly from: string; readonly to: string };

interface Fields {
  readonly kind: Question['kind'];
  readonly from: string;
  readonly to: string;
  readonly key: string[];
}

const LIMIT = 500;
const today = () => new Date(present()).toISOString().slice(0, 10);

/** A history table through time: as it was on a date, the versions of one key, what differs between two dates. */
export function Versions({ table }: { table: TableSummary }) {
  const { slug } = useProject();
  const history = useMemo(
    (): HistoryTable => ({
      fullName: table.fullName,
      ...table.history!,
      columns: (table.columns ?? []).map((c) => c.name).filter((n) => !table.history!.filled.includes(n)),
    }),
    [table],
  );
  const { register, handleSubmit, setValue, watch } = useForm<Fields>({
    defaultValues: { kind: 'as of', from: today(), to: today(), key: history.key.map(() => '') },
  });
  const { kind, from, to } = watch();
  const [ask, { data, error, isLoading }] = usePreviewMutation();
  const [asked, setAsked] = useState<Question>();
  const show = (q: Question) => {
    setAsked(q);
    const text =
      q.kind === 'as of'
        ? asOfQuery(history, endOf(q.at))
        : q.kind === 'key'
          ? versionsQuery(history, q.key)
          : compareQuery(history, endOf(q.from), endOf(q.to));
    void ask({ slug, path: 'adhoc/versions.sql', text, limit: LIMIT });
  };
  // What is shown first is the table as it is now.
  // eslint-disable-next-line react-hooks/exhaustive-deps
  useEffect(() => show({ kind: 'as of', at: today() }), [table.fullName]);
  const shown = data && (asked?.kind === 'compare' ? differing(data) : data);
  const openKey = (row: number) => {
    if (!data || asked?.kind === 'key') return;
    const values = history.key.map((k) => data.rows[row]![data.columns.findIndex((c) => c.name === k)] ?? '');
    setValue('kind', 'key');
    setValue('key', values);
    show({ kind: 'key', key: values });
  };
  return (
    <>
      <form
        className="flex min-h-10.5 shrink-0 flex-wrap items-center gap-2 border-b border-line px-3.5 py-1"
        onSubmit={(e) => void handleSubmit((fields) => show(questionOf(fields)))(e)}
      >
        <select aria-label="What to see" className={`${inputClass} w-44!`} {...register('kind')}>
          <option value="as of">the table as of a date</option>
          <option value="key">all versions of one key</option>
          <option value="compare">two dates compared</option>
        </select>
        {kind === 'compare' && <DateField beside label="From" value={from} onChange={(d) => setValue('from', d)} />}
        {kind !== 'key' && (
          <DateField
            beside
            label={kind === 'compare' ? 'To' : 'As of the end of'}
            value={to}
            onChange={(d) => setValue('to', d)}
          />
        )}
        {kind === 'key' &&
          history.key.map((k, i) => (
            <label key={k} className="flex items-center gap-1.5 text-small">
              {k}
              <input className={`${inputClass} w-36! font-mono text-small`} {...register(`key.${i}`)} />
            </label>
          ))}
        <Button type="submit" disabled={isLoading}>
          Show
        </Button>
        <span className="flex-1" />
        {data && !isLoading && (
          <span className="font-mono text-small text-soft" aria-live="polite">
            {data.total === null || data.total > data.rows.length
              ? `first ${count(data.rows.length)} of ${data.total === null ? 'many' : count(data.total)}`
              : plural(data.rows.length, 'row')}
          </span>
        )}
      </form>
      <div className="min-h-0 flex-1">
        {error ? (
          <div className="p-3">
            <ProblemNote problem={error as ProblemBody} />
          </div>
        ) : isLoading || !data || !shown ? (
          <Loading what="Reading versions" />
        ) : data.rows.length === 0 ? (
          <Empty
            title={
              asked?.kind === 'compare'
                ? 'Nothing differs between these dates'
                : asked?.kind === 'key'
                  ? 'No version of this key'
                  : 'No version was valid on that date'
            }
          >
            {asked?.kind === 'as of' && <p>The first version may begin later: choose another date.</p>}
          </Empty>
        ) : asked?.kind === 'key' ? (
          <Timeline history={history} rows={data} />
        ) : (
          <Grid label={`Versions of ${table.fullName}`} columns={shown.columns} rows={shown.rows} onOpen={openKey} />
        )}
      </div>
    </>
  );
}

/** The columns of a comparison in which something differs. */
function differing({ columns, rows }: Rows): Pick<Rows, 'columns' | 'rows'> {
  const kept = columns.flatMap((_, i) => (rows.some((r) => r[i] !== '') ? [i] : []));
  return { columns: kept.map((i) => columns[i]!), rows: rows.map((r) => kept.map((i) => r[i] ?? null)) };
}

const questionOf = ({ kind, from, to, key }: Fields): Question =>
  kind === 'as of' ? { kind, at: to } : kind === 'key' ? { kind, key } : { kind, from, to };

/** A date means all of its day. */
const endOf = (date: string) => `${date} 23:59:59.999999+00`;

/** One key's versions, each with what changed in it. */
function Timeline({ history, rows }: { history: HistoryTable; rows: Rows }) {
  const names = rows.columns.map((c) => c.name);
  const valueOf = (row: readonly (string | null)[], name: string) => row[names.indexOf(name)] ?? null;
  return (
    <ol aria-label="Versions, oldest first" className="h-full overflow-auto px-3.5 py-3">
      {rows.rows.map((row, i) => {
        const before = rows.rows[i - 1];
        const changed = before ? changedColumns(history, names, before, row) : [];
        const to = valueOf(row, history.validTo);
        return (
          <li key={i} className="relative border-l-2 border-plan pb-4 pl-5">
            <span
              aria-hidden
              className={`absolute top-1 -left-1.5 size-2.5 rounded-full border-2 border-plan ${to === null ? 'bg-plan' : 'bg-sheet'}`}
            />
            <p className="font-mono text-small">
              {valueOf(row, history.validFrom)} <span className="text-soft">to</span> {to ?? 'now'}
            </p>
            {before ? (
              changed.length ? (
                <dl className="mt-1 grid grid-cols-[max-content_1fr] gap-x-3 text-body">
                  {changed.map((name) => (
                    <div key={name} className="contents">
                      <dt className="text-soft">{name}</dt>
                      <dd>
                        <span className="text-soft line-through">{valueOf(before, name) ?? 'null'}</span>{' '}
                        {valueOf(row, name) ?? 'null'}
                      </dd>
                    </div>
                  ))}
                </dl>
              ) : (
                <p className="mt-1 text-soft">reappeared unchanged</p>
              )
            ) : (
              <p className="mt-1 text-soft">
                {names
                  .filter((n) => history.columns.includes(n) && n !== history.validFrom && n !== history.validTo)
                  .map((n) => `${n} ${valueOf(row, n) ?? 'null'}`)
                  .join(' · ')}
              </p>
            )}
          </li>
        );
      })}
    </ol>
  );
}
