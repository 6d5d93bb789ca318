import type { RowFilter } from '@ouvrage/core/look';
import type { ColumnProfile } from '@ouvrage/core/model';
import { useMemo, useState } from 'react';
import { LeftOut } from './left-out';
import { useProfileQuery } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { ProfileAnswer } from '@ouvrage/api/rows';
import { Chart, type ChartLook, type ChartOption } from '../../shared/chart';
import { cell, count, duration, rows as rowsWord } from '../../shared/format';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Tag } from '../../shared/ui/tag';
import type { TableSummary } from '../../worker/protocol';
import { barsOf, type Bar } from './profile-bars';

/** What each column holds; beside production's where the workspace has built the table itself. */
export default function ProfileView({
  table,
  onFilter,
}: {
  table: TableSummary;
  onFilter: (filters: readonly RowFilter[]) => void;
}) {
  const { slug, isProduction, states } = useProject();
  const { data, error, isLoading, refetch } = useProfileQuery({ slug, table: table.fullName, production: false });
  const differs = !isProduction && states.get(table.fullName)?.where !== 'production';
  const [beside, setBeside] = useState(false);
  const other = useProfileQuery({ slug, table: table.fullName, production: true }, { skip: !beside });
  if (isLoading) return <Loading what="Profiling the columns" />;
  if (error || !data)
    return (
      <div className="p-3">
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      </div>
    );
  if (data.rows === 0) return <Empty title="The table has no rows to profile" />;
  return (
    <div className="min-h-0 flex-1 overflow-auto" tabIndex={0} role="group" aria-label="Profile">
      <div className="flex items-center justify-between gap-3 border-b border-line px-3.5 py-1 text-small text-soft">
        <span>{lookedAt(data)}</span>
        {data.leftOut && <LeftOut columns={data.leftOut} />}
        {differs && (
          <label className="flex items-center gap-2 text-ink">
            <input type="checkbox" checked={beside} onChange={(e) => setBeside(e.target.checked)} /> beside production’s
          </label>
        )}
      </div>
      {beside && other.error && (
        <div className="p-3">
          <ProblemNote problem={other.error as ProblemBody} />
        </div>
      )}
      {data.columns.map((c) => (
        <section key={c.name} aria-label={c.name} className="flex gap-5 border-b border-line px-3.5 py-2">
          <ColumnFigures column={c} rows={data.rows} onFilter={onFilter} />
          {beside && other.data && (
            <Other column={other.data.columns.find((o) => o.name === c.name)} rows={other.data.rows} />
          )}
        </section>
      ))}
    </div>
  );
}

function lookedAt(p: ProfileAnswer): string {
  const what =
    p.share < 1 ? `a sample of ${count(p.rows)} of about ${rowsWord(p.estimatedRows)}` : `all ${rowsWord(p.rows)}`;
  return `From ${what}, in ${duration(p.milliseconds)}. Click a bar to see its rows.`;
}

function Other({ column, rows }: { column: ColumnProfile | undefined; rows: number }) {
  return (
    <div className="min-w-0 flex-1 border-l border-line pl-4">
      <p className="caps">production</p>
      {column ? <ColumnFigures column={column} rows={rows} plain /> : <p className="text-soft">has no such column</p>}
    </div>
  );
}

function ColumnFigures({
  column,
  rows,
  plain,
  onFilter,
}: {
  column: ColumnProfile;
  rows: number;
  plain?: boolean;
  onFilter?: (filters: readonly RowFilter[]) => void;
}) {
  const share = (n: number) => (rows === 0 ? '–' : `${((n / rows) * 100).toFixed(n > 0 && n / rows < 0.01 ? 2 : 1)} %`);
  const shown = (v: string | null | undefined) =>
    v === null || v === undefined ? '–' : cell(v, column.type) || '(empty)';
  const figures: readonly (readonly [string, string])[] = [
    ['nulls', `${count(column.nulls)} (${share(column.nulls)})`],
    ['distinct', count(column.distinct)],
    ...(column.least === null
      ? []
      : ([
          ['least', shown(column.least)],
          ['greatest', shown(column.greatest)],
        ] as const)),
    ...(column.mean === null ? [] : ([['mean', shown(trimmed(column.mean))]] as const)),
    ...(column.quantiles
      ? ([
          ['median', shown(column.quantiles[2])],
          ['5 to 95 %', `${shown(column.quantiles[0])} to ${shown(column.quantiles[4])}`],
        ] as const)
      : []),
    ...(column.lengths
      ? ([
          ['length', `${column.lengths.least} to ${column.lengths.greatest}, mean ${trimmed(column.lengths.mean)}`],
        ] as const)
      : []),
    ...(column.patterns?.length && column.patterns.length < 4
      ? ([['pattern', column.patterns.map(([p]) => p || '(empty)').join('  ')]] as const)
      : []),
  ];
  const bars = useMemo(() => barsOf(column), [column]);
  return (
    <div className="flex min-w-0 flex-1 gap-4">
      <div className="w-62.5 shrink-0">
        {!plain && (
          <h3 className="mb-0.5 truncate font-medium">
            {column.name} <Tag>{column.type}</Tag>
          </h3>
        )}
        <dl className="grid grid-cols-[64px_minmax(0,1fr)] gap-x-2 text-small">
          {figures.map(([name, value]) => (
            <div key={name} className="contents">
              <dt className="text-soft">{name}</dt>
              <dd className="truncate font-mono" title={value}>
                {value}
              </dd>
            </div>
          ))}
        </dl>
      </div>
      {bars.length > 0 && (
        <Bars
          label={`Values of ${column.name}`}
          bars={bars}
          upright={column.histogram !== null}
          {...(onFilter ? { onChoose: (b: Bar) => onFilter(b.filters) } : {})}
        />
      )}
    </div>
  );
}

/** `12.500000` is `12.5`. */
const trimmed = (n: string) => (n.includes('.') ? n.replace(/0+$/, '').replace(/\.$/, '') : n);

function Bars({
  label,
  bars,
  upright,
  onChoose,
}: {
  label: string;
  bars: readonly Bar[];
  upright: boolean;
  onChoose?: (bar: Bar) => void;
}) {
  const isChosen = onChoose !== undefined;
  const option = useMemo(() => barsOption(bars, { upright, isChosen }), [bars, upright, isChosen]);
  return (
    <div className="min-w-0 flex-1">
      <Chart
        label={`${label}: ${bars.map((b) => `${b.label} ${b.count}`).join(', ')}`}
        height={upright ? 92 : Math.max(40, bars.length * 16)}
        option={option}
        onChoose={onChoose && ((i) => onChoose(bars[i]!))}
      />
      {onChoose && (
        <ul className="sr-only">
          {bars.map((b) => (
            <li key={b.label}>
              <button type="button" onClick={() => onChoose(b)}>
                Rows with {b.label}
              </button>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

const barsOption =
  (bars: readonly Bar[], { upright, isChosen }: { readonly upright: boolean; readonly isChosen: boolean }) =>
  ({ colour, text }: ChartLook): ChartOption => {
    const category = {
      type: 'category' as const,
      data: bars.map((b) => b.label),
      axisTick: { show: false },
      axisLine: { lineStyle: { color: colour('rule') } },
    };
    const value = { type: 'value' as const, splitLine: { show: false }, axisLabel: { show: false } };
    return {
      animation: false,
      grid: upright ? { left: 4, right: 4, top: 6, bottom: 18 } : { left: 118, right: 46, top: 2, bottom: 2 },
      xAxis: upright
        ? { ...category, axisLabel: { ...text, interval: Math.max(1, Math.floor(bars.length / 4)) } }
        : value,
      yAxis: upright ? value : { ...category, inverse: true, axisLabel: { ...text, width: 108, overflow: 'truncate' } },
      tooltip: {
        renderMode: 'richText',
        textStyle: { fontFamily: 'IBM Plex Mono', fontSize: 11 },
        formatter: (of) => {
          const { dataIndex } = of as { dataIndex: number };
          return `${bars[dataIndex]!.label}\n${rowsWord(bars[dataIndex]!.count)}`;
        },
      },
      series: [
        {
          type: 'bar',
          data: bars.map((b) => b.count),
          barCategoryGap: upright ? '8%' : '25%',
          itemStyle: { color: colour('plan') },
          cursor: isChosen ? 'pointer' : 'default',
          label: upright
            ? { show: false }
            : { ...text, show: true, position: 'right', formatter: ({ value: v }) => count(v as number) },
        },
      ],
    };
  };
