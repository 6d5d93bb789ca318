import type { WatchSeries } from '@ouvrage/api/watch';
import { useMemo } from 'react';
import { Chart, type ChartLook, type ChartOption } from '../../shared/chart';
import { moment, plural } from '../../shared/format';
import { measureWords } from '@ouvrage/core/watch';

const MOST = 90;

/** A measure over time, a bar a load; those outside in another colour, what is expected next as two lines. */
export function WatchChart({ series, onChoose }: { series: WatchSeries; onChoose: (run: number) => void }) {
  const points = useMemo(() => series.points.slice(-MOST), [series]);
  const option = useMemo(() => optionOf(series, points), [series, points]);
  const outside = points.filter((p) => p.verdict === 'outside').length;
  return (
    <Chart
      label={`${series.measure} over ${plural(points.length, 'load')}, ${outside} outside; the table below has the same`}
      height={170}
      option={option}
      onChoose={(i) => points[i] && onChoose(points[i].run)}
    />
  );
}

const optionOf =
  ({ measure, expected }: WatchSeries, points: WatchSeries['points']) =>
  ({ colour, text }: ChartLook): ChartOption => ({
    animation: false,
    grid: { left: 62, right: 12, top: 14, bottom: 22 },
    xAxis: {
      type: 'category',
      data: points.map((p) => moment(p.at)),
      axisTick: { show: false },
      axisLine: { lineStyle: { color: colour('rule') } },
      axisLabel: { ...text, interval: Math.max(0, Math.ceil(points.length / 6) - 1) },
    },
    yAxis: {
      type: 'value',
      axisLabel: { ...text, formatter: (n: number) => measureWords(measure, n) },
      splitLine: { lineStyle: { color: colour('line') } },
      splitNumber: 3,
    },
    tooltip: {
      trigger: 'axis',
      renderMode: 'richText',
      textStyle: { fontFamily: 'IBM Plex Mono', fontSize: 11 },
      formatter: (of) => {
        const point = points[[of].flat()[0]?.dataIndex ?? 0]!;
        return `${moment(point.at)}, run ${point.run}\n${measureWords(measure, point.value)}, ${point.verdict}`;
      },
    },
    series: [
      {
        type: 'bar',
        data: points.map((p) => ({
          value: p.value,
          itemStyle: {
            color: colour(p.verdict === 'outside' ? 'broken' : p.verdict === 'ignored' ? 'advisory' : 'plan'),
          },
        })),
        barMaxWidth: 18,
        cursor: 'pointer',
        ...(expected
          ? {
              markLine: {
                silent: true,
                symbol: 'none',
                lineStyle: { color: colour('soft'), type: 'dashed' as const },
                label: { show: false },
                data: [{ yAxis: expected.least }, { yAxis: expected.greatest }],
              },
            }
          : {}),
      },
    ],
  });
