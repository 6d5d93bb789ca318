import type { CheckPoint, CheckSeries } from '@ouvrage/api/quality';
import { useMemo } from 'react';
import { Chart, type ChartLook, type ChartOption } from '../../shared/chart';
import { count, moment, plural } from '../../shared/format';

const TOKENS = { holds: 'plan', advisory: 'advisory', broken: 'broken', 'not run': 'notrun' } as const;

/** Rows at fault of a check, a bar a verdict, with the releases between them. */
export function CheckChart({ series, onChoose }: { series: CheckSeries; onChoose: (point: CheckPoint) => void }) {
  const { points } = series;
  const option = useMemo(() => optionOf(series), [series]);
  const failing = points.filter((p) => p.verdict !== 'holds').length;
  return (
    <Chart
      label={`Rows at fault over ${plural(points.length, 'verdict')}, ${count(failing)} of them failing; the table below has the same`}
      height={150}
      option={option}
      onChoose={(i) => points[i] && onChoose(points[i])}
    />
  );
}

const optionOf =
  ({ points, releases }: CheckSeries) =>
  ({ colour, text }: ChartLook): ChartOption => ({
    animation: false,
    grid: { left: 52, right: 12, top: 22, bottom: 22 },
    xAxis: {
      type: 'category',
      data: points.map((p) => moment(p.at)),
      axisTick: { show: false },
      axisLine: { lineStyle: { color: colour('rule') } },
      axisLabel: { ...text, interval: Math.max(0, Math.ceil(points.length / 6) - 1) },
    },
    yAxis: {
      type: 'value',
      min: 0,
      minInterval: 1,
      axisLabel: { ...text, formatter: (n: number) => count(n) },
      splitLine: { lineStyle: { color: colour('line') } },
      splitNumber: 3,
    },
    tooltip: {
      trigger: 'axis',
      renderMode: 'richText',
      textStyle: { fontFamily: 'IBM Plex Mono', fontSize: 11 },
      formatter: (of) => {
        const [first] = [of].flat();
        const point = points[first?.dataIndex ?? 0]!;
        return `${moment(point.at)}, run ${point.run}\n${point.verdict}: ${count(point.atFault)} of ${count(point.total)}`;
      },
    },
    series: [
      {
        type: 'bar',
        // What holds is a stroke on the line, so that it is seen to have run.
        data: points.map((p) => ({ value: Number(p.atFault ?? 0), itemStyle: { color: colour(TOKENS[p.verdict]) } })),
        barMinHeight: 2,
        barMaxWidth: 18,
        cursor: 'pointer',
        markLine: {
          silent: true,
          symbol: 'none',
          lineStyle: { color: colour('accent'), type: 'solid', width: 1.5 },
          label: { ...text, color: colour('advisory-text'), formatter: '{b}' },
          data: releases.flatMap((r) => {
            const after = points.findIndex((p) => p.at >= r.at);
            return after < 0 ? [] : [{ name: `release ${r.id}`, xAxis: after }];
          }),
        },
      },
    ],
  });
