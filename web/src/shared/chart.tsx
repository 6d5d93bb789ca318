import type { ComposeOption, EChartsType } from 'echarts/core';
import * as echarts from 'echarts/core';
import { BarChart, type BarSeriesOption } from 'echarts/charts';
import {
  GridComponent,
  MarkLineComponent,
  TooltipComponent,
  type GridComponentOption,
  type TooltipComponentOption,
} from 'echarts/components';
import { SVGRenderer } from 'echarts/renderers';
import { useEffect, useRef } from 'react';
import { useAppSelector } from '../data/store';

echarts.use([BarChart, GridComponent, MarkLineComponent, TooltipComponent, SVGRenderer]);

export type ChartOption = ComposeOption<BarSeriesOption | GridComponentOption | TooltipComponentOption>;

/** The colours of the theme by their tokens, and the look of texts in a chart. */
export interface ChartLook {
  readonly colour: (token: string) => string;
  readonly text: { readonly color: string; readonly fontFamily: string; readonly fontSize: number };
}

interface ChartProps {
  /** What the picture shows, for who does not see it; a table or list of the same stands beside. */
  readonly label: string;
  readonly height: number;
  /** Has to stay the same function for as long as the picture stays the same. */
  readonly option: (look: ChartLook) => ChartOption;
  /** Told which of the categories was clicked. */
  readonly onChoose?: ((index: number) => void) | undefined;
}

/** A chart in the colours of the theme, as wide as its place. */
export function Chart({ label, height, option, onChoose }: ChartProps) {
  const place = useRef<HTMLDivElement>(null);
  const theme = useAppSelector((s) => s.interface.theme);
  const choose = useRef(onChoose);
  useEffect(() => {
    choose.current = onChoose;
  });
  useEffect(() => {
    const style = getComputedStyle(document.documentElement);
    const colour = (token: string) => style.getPropertyValue(`--${token}`).trim();
    const chart: EChartsType = echarts.init(place.current!, null, { renderer: 'svg' });
    chart.setOption(option({ colour, text: { color: colour('soft'), fontFamily: 'IBM Plex Mono', fontSize: 10 } }));
    chart.on('click', ({ dataIndex }) => choose.current?.(dataIndex));
    const resized = new ResizeObserver(() => chart.resize());
    resized.observe(place.current!);
    return () => {
      resized.disconnect();
      chart.dispose();
    };
  }, [option, theme]);
  return <div ref={place} role="img" aria-label={label} style={{ height }} />;
}
