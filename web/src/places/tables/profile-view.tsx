import type { RowFilter } from '@ouvrage/core/look';
import type { ColumnProfile } from '@ouvrage/core/model';
import { BarChart } from 'echarts/charts';
import { GridComponent, TooltipComponent } from 'echarts/components';
import * as echarts from 'echarts/core';
import { SVGRenderer } from 'echarts/renderers';
import { useEffect, useRef, useState } from 'react';
import { LeftOut } from './left-out';
import { useProfileQuery } from '../../data/rows';
import { useProject } from '../../data/project';
import { useAppSelector } from '../../data/store';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { ProfileAnswer } from '@ouvrage/api/rows';
import { cell, count, duration, rows as rowsWord } from '../../shared/format';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Tag } from '../../shared/ui/tag';
import type { TableSummary } from '../../worker/protocol';
import { barsOf, type Bar } from './profile-bars';

echarts.use([BarChart, GridComponent, TooltipComponent, SVGRenderer]);

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
  const bars = barsOf(column);
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
  const place = useRef<HTMLDivElement>(null);
  const theme = useAppSelector((s) => s.interface.theme);
  const choose = useRef(onChoose);
  useEffect(() => {
    choose.current = onChoose;
  });
  useEffect(() => {
    const style = getComputedStyle(document.documentElement);
    const colour = (token: string) => style.getPropertyValue(`--${token}`).trim();
    const chart = echarts.init(place.current!, null, { renderer: 'svg' });
    const text = { color: colour('soft'), fontFamily: 'IBM Plex Mono', fontSize: 10 };
    const category = {
      type: 'category',
      data: bars.map((b) => b.label),
      axisTick: { show: false },
      axisLine: { lineStyle: { color: colour('rule') } },
    };
    const value = { type: 'value', splitLine: { show: false }, axisLabel: { show: false } };
    chart.setOption({
      animation: false,
      grid: upright ? { left: 4, right: 4, top: 6, bottom: 18 } : { left: 118, right: 46, top: 2, bottom: 2 },
      xAxis: upright
        ? { ...category, axisLabel: { ...text, interval: Math.max(1, Math.floor(bars.length / 4)) } }
        : value,
      yAxis: upright ? value : { ...category, inverse: true, axisLabel: { ...text, width: 108, overflow: 'truncate' } },
      tooltip: {
        renderMode: 'richText',
        textStyle: { fontFamily: 'IBM Plex Mono', fontSize: 11 },
        formatter: ({ dataIndex }: { dataIndex: number }) =>
          `${bars[dataIndex]!.label}\n${rowsWord(bars[dataIndex]!.count)}`,
      },
      series: [
        {
          type: 'bar',
          data: bars.map((b) => b.count),
          barCategoryGap: upright ? '8%' : '25%',
          itemStyle: { color: colour('plan') },
          cursor: choose.current ? 'pointer' : 'default',
          label: upright
            ? { show: false }
            : { ...text, show: true, position: 'right', formatter: ({ value: v }: { value: number }) => count(v) },
        },
      ],
    });
    chart.on('click', ({ dataIndex }) => choose.current?.(bars[dataIndex]!));
    const resized = new ResizeObserver(() => chart.resize());
    resized.observe(place.current!);
    return () => {
      resized.disconnect();
      chart.dispose();
    };
  }, [bars, upright, theme]);
  return (
    <div className="min-w-0 flex-1">
      <div
        ref={place}
        role="img"
        aria-label={`${label}: ${bars.map((b) => `${b.label} ${b.count}`).join(', ')}`}
        style={{ height: upright ? 92 : Math.max(40, bars.length * 16) }}
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
