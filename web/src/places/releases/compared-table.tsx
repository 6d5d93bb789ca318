import type { ComparedColumnFigures, ComparedCounts, ComparedKind, ComparedRows } from '@ouvrage/api/compared';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useState, type ReactNode } from 'react';
import {
  comparedFile,
  useComparedColumnsQuery,
  useComparedCountsQuery,
  useComparedRowsQuery,
  useStopCounting,
} from '../../data/compared';
import { useProject } from '../../data/project';
import { count, plural, rows as rowsWords } from '../../shared/format';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Empty } from '../../shared/ui/empty';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';

/** The rows of a workspace's table beside production's: counted first, then by column, then shown. */
export function ComparedTable({ table }: { readonly table: string }) {
  const { slug } = useProject();
  const { currentData, error, isFetching, refetch } = useComparedCountsQuery({ slug, table });
  const stop = useStopCounting({ slug, table });
  if (isFetching && !currentData)
    return (
      <div className="flex h-full flex-col">
        <div className="min-h-0 flex-1">
          <Loading what={`Comparing the rows of ${table}`} />
        </div>
        <p className="pb-6 text-center">
          <Button onClick={stop}>Stop</Button>
        </p>
      </div>
    );
  if (error && (error as { name?: string }).name === 'AbortError')
    return (
      <Empty title="Stopped">
        <Button onClick={() => void refetch()}>Compare the rows</Button>
      </Empty>
    );
  if (error) return <NotCompared problem={error as ProblemBody} again={() => void refetch()} />;
  if (!currentData) return null;
  if (currentData.isSame)
    return <Empty title="The same table">This workspace reads {table} from production, so no rows differ.</Empty>;
  const isEqual = [currentData.onlyThere, currentData.onlyHere, currentData.different].every((n) => n === '0');
  return (
    <div className="flex h-full flex-col gap-5 overflow-auto p-4" tabIndex={0} aria-label={`Rows of ${table}`}>
      <Figures counts={currentData} />
      <Remarks counts={currentData} />
      {isEqual && currentData.repeated === null && <p className="sheet-title">{rowsWords(currentData.equal)} equal</p>}
      <Columns counts={currentData} />
      {!isEqual && <Rows counts={currentData} />}
    </div>
  );
}

const EXPECTED: Readonly<Record<string, string>> = {
  'not-run': 'Not run here yet',
  'new-table': 'A new table',
};

/** Where there are no two versions there is nothing wrong. */
function NotCompared({ problem, again }: { readonly problem: ProblemBody; readonly again: () => void }) {
  const title = EXPECTED[problem.code];
  if (title === undefined)
    return (
      <div className="p-4">
        <ProblemNote problem={problem} again={again} />
      </div>
    );
  return (
    <Empty title={title}>
      {problem.title}. {problem.detail}
    </Empty>
  );
}

function Figures({ counts }: { readonly counts: ComparedCounts }) {
  const figures: readonly (readonly [string, string, string])[] = [
    ['Production', counts.there, ''],
    ['This workspace', counts.here, ''],
    ['Only here', counts.onlyHere, 'text-holds-text'],
    ['Only there', counts.onlyThere, 'text-broken'],
    ['Changed', counts.different, 'text-advisory-text'],
  ];
  return (
    <dl className="grid grid-cols-5 border border-line">
      {figures.map(([name, n, look]) => (
        <div key={name} className="border-r border-line px-3 py-2 last:border-r-0">
          <dt className="caps">{name}</dt>
          <dd className={`font-mono text-title ${n === '0' ? 'text-soft' : look}`}>{count(n)}</dd>
        </div>
      ))}
    </dl>
  );
}

/** How rows were matched, and what was not compared. */
function Remarks({ counts }: { readonly counts: ComparedCounts }) {
  const { key, was, table, repeated, apart, leftOut, newer } = counts;
  return (
    <div className="-mt-2 flex flex-col gap-0.5 text-small text-soft">
      <p>
        {key.length > 0
          ? `Matched by ${key.join(', ')}.`
          : 'No key tells rows apart, so they are compared whole: a changed row counts once here and once there.'}
        {was !== table && ` Production calls it ${was}.`}
        {apart.length > 0 && ` Not compared, as each load assigns its own: ${apart.join(', ')}.`}
      </p>
      {repeated && (
        <p className="text-advisory-text">
          {plural(Number(repeated.keys), 'key')} {repeated.keys === '1' ? 'occurs' : 'occur'} more than once. Their rows
          are compared whole and not counted above: {count(repeated.there)} in production, {count(repeated.here)} here,{' '}
          {count(repeated.equal)} of them equal.
        </p>
      )}
      {newer.length > 0 && (
        <p className="text-advisory-text">
          Perhaps not like for like: {newer.slice(0, 3).join(', ')}
          {newer.length > 3 && ` and ${newer.length - 3} more`} {newer.length === 1 ? 'has' : 'have'} been loaded since
          production’s table or this workspace’s was. Run the older one again, then compare.
        </p>
      )}
      {leftOut.length > 0 && <p>Sensitive, so left out for viewers: {leftOut.join(', ')}.</p>}
    </div>
  );
}

interface ColumnLine {
  readonly name: string;
  readonly change: 'new column' | 'dropped' | 'values' | 'same';
  readonly figures?: ComparedColumnFigures;
}

/** Columns, those that differ first. */
function Columns({ counts }: { readonly counts: ComparedCounts }) {
  const { slug } = useProject();
  const { currentData, error, refetch } = useComparedColumnsQuery({ slug, table: counts.table });
  if (error) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  const differs = (c: ComparedColumnFigures) => c.differ !== null && c.differ !== '0';
  const lines: ColumnLine[] = [
    ...counts.added.map((name) => ({ name, change: 'new column' as const })),
    ...counts.gone.map((name) => ({ name, change: 'dropped' as const })),
    ...(currentData?.columns ?? []).map((c) => ({
      name: c.column,
      change: differs(c) ? ('values' as const) : ('same' as const),
      figures: c,
    })),
  ];
  const both = Math.max(1, Number(counts.equal) + Number(counts.different));
  return (
    <section aria-label="Columns">
      <SectionTitle>Columns</SectionTitle>
      {currentData ? (
        <DataTable className="mt-1 w-full" columns={columnsOf(both)} rows={lines} keyOf={(l) => l.name} />
      ) : (
        <Loading what="Comparing columns" />
      )}
    </section>
  );
}

const columnsOf = (both: number): DataColumn<ColumnLine>[] => [
  { id: 'column', look: 'font-mono text-small', cell: (l) => l.name },
  { id: 'change', cell: (l) => (l.change === 'same' ? <span className="text-soft">same</span> : l.change) },
  { id: 'rows', inFigures: true, cell: (l) => (l.figures?.differ ? count(l.figures.differ) : '') },
  {
    id: 'share',
    title: <span className="sr-only">share of the rows in both</span>,
    width: 'w-32',
    cell: (l) =>
      l.figures?.differ ? (
        <span aria-hidden className="block h-1.5 w-28 bg-paper">
          <span
            className="block h-full bg-plan"
            style={{ width: `${Math.min(100, (Number(l.figures.differ) / both) * 100)}%` }}
          />
        </span>
      ) : null,
  },
  { id: 'before and after', title: 'production → here', cell: (l) => l.figures && <Changes figures={l.figures} /> },
];

/** The most frequent changes of a column; of numbers, what their sum was and is; and where nulls came or went. */
function Changes({ figures: { numbers, nulls, frequent } }: { readonly figures: ComparedColumnFigures }) {
  // Of numbers that all change differently their sum says more.
  const telling = frequent.filter((f) => numbers === null || Number(f.rows) > 1);
  const parts: ReactNode[] = telling.map((f) => (
    <span key={`${f.before} → ${f.after}`} className="whitespace-nowrap">
      <BeforeAfter before={f.before} after={f.after} /> <span className="text-soft">{count(f.rows)}×</span>
    </span>
  ));
  if (numbers && numbers.sum.before !== numbers.sum.after)
    parts.push(
      <span key="sum" className="whitespace-nowrap">
        <span className="text-soft">sum</span> {count(numbers.sum.before)} → {count(numbers.sum.after)}
      </span>,
    );
  if (nulls.before !== nulls.after)
    parts.push(
      <span key="nulls" className="whitespace-nowrap">
        <span className="text-soft">nulls</span> {count(nulls.before)} → {count(nulls.after)}
      </span>,
    );
  return <span className="flex flex-wrap gap-x-4 font-mono text-small">{parts}</span>;
}

const shown = (value: string | null) =>
  value === null ? <i>null</i> : value === '' ? <i>empty</i> : value.length > 40 ? `${value.slice(0, 40)}…` : value;

function BeforeAfter({ before, after }: { readonly before: string | null; readonly after: string | null }) {
  return (
    <>
      <del className="mr-1.5 text-broken">{shown(before)}</del>
      <span className="sr-only"> became </span>
      <ins className="text-holds-text no-underline">{shown(after)}</ins>
    </>
  );
}

const KINDS: readonly { readonly kind: ComparedKind; readonly title: string; readonly of: keyof ComparedCounts }[] = [
  { kind: 'different', title: 'Changed', of: 'different' },
  { kind: 'only here', title: 'Only here', of: 'onlyHere' },
  { kind: 'only there', title: 'Only there', of: 'onlyThere' },
];

/** The first rows of a kind. */
function Rows({ counts }: { readonly counts: ComparedCounts }) {
  const { slug } = useProject();
  const kinds = KINDS.filter((k) => counts[k.of] !== '0');
  const [chosen, choose] = useState(kinds[0]?.kind ?? 'different');
  const kind = kinds.some((k) => k.kind === chosen) ? chosen : (kinds[0]?.kind ?? 'different');
  const { currentData, error, refetch } = useComparedRowsQuery({ slug, table: counts.table, kind });
  return (
    <section aria-label="Rows" className="flex flex-col gap-2">
      <div className="flex items-baseline gap-4">
        <h2 className="caps">Rows{counts.key.length > 0 && ` by ${counts.key.join(', ')}`}</h2>
        {kinds.map((k) => (
          <button
            key={k.kind}
            type="button"
            aria-pressed={k.kind === kind}
            onClick={() => choose(k.kind)}
            className={k.kind === kind ? 'border-b-2 border-act font-medium' : 'text-plan underline underline-offset-2'}
          >
            {k.title} {count(counts[k.of] as string)}
          </button>
        ))}
        <a
          className="ml-auto text-small text-plan underline underline-offset-2"
          href={comparedFile({ slug, table: counts.table }, kind)}
          download
        >
          Save all as CSV
        </a>
      </div>
      {error ? (
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      ) : currentData ? (
        <RowsTable data={currentData} />
      ) : (
        <Loading what="Reading rows" />
      )}
    </section>
  );
}

type Line = readonly (string | null)[];

function RowsTable({ data }: { readonly data: ComparedRows }) {
  const { key, columns, kind } = data;
  const isPaired = kind === 'different';
  const pair = (row: Line, i: number) =>
    [row[key.length + 2 * i] ?? null, row[key.length + 2 * i + 1] ?? null] as const;
  // Of rows that changed, the columns in which one of them did come first.
  const order = columns.map((_, i) => i);
  const changes = (i: number) => (isPaired && data.rows.some((row) => pair(row, i)[0] !== pair(row, i)[1]) ? 1 : 0);
  order.sort((a, b) => changes(b) - changes(a) || a - b);
  const tableColumns: DataColumn<{ readonly row: Line; readonly at: number }>[] = [
    ...key.map((name, i) => ({
      id: name,
      look: 'font-mono text-small whitespace-nowrap',
      cell: ({ row }: { row: Line }) => shown(row[i] ?? null),
    })),
    ...order.map((i) => ({
      id: columns[i]!,
      look: 'font-mono text-small whitespace-nowrap',
      cell: ({ row }: { row: Line }) => {
        if (!isPaired) return shown(row[key.length + i] ?? null);
        const [before, after] = pair(row, i);
        return before === after ? shown(after) : <BeforeAfter before={before} after={after} />;
      },
    })),
    ...(key.length === 0 ? [{ id: 'rows', inFigures: true, cell: ({ row }: { row: Line }) => count(row.at(-1)) }] : []),
  ];
  return (
    <>
      <div className="overflow-x-auto" tabIndex={0} aria-label="First rows">
        <DataTable columns={tableColumns} rows={data.rows.map((row, at) => ({ row, at }))} keyOf={(r) => r.at} />
      </div>
      {data.hasMore && (
        <p className="text-small text-soft">
          {data.rows.length === 1
            ? 'Only the first row is shown.'
            : `Only the first ${data.rows.length} rows are shown.`}
        </p>
      )}
    </>
  );
}
