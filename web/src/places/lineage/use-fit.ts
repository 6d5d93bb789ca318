import { useReactFlow } from '@xyflow/react';
import { useEffect, useLayoutEffect, useState, type RefObject } from 'react';
import type { Placed } from './layout';

/** Names are drawn no smaller: 13 pixels of type stay 12. */
export const LEAST_ZOOM = 0.92;
/** Pixels that stay free at each side. */
export const MARGIN = 28;
/** Above the boxes are the heads of the bands. */
const HEAD = 56;

/**
 * Shows a drawing as large as it fits; where it does not fit with names that can be read, from its left, or around the
 * box that was asked for.
 */
export function useFit(placed: Placed, sheet: RefObject<HTMLElement | null>, focus?: string): void {
  const flow = useReactFlow();
  useEffect(() => {
    const size = sheet.current?.getBoundingClientRect();
    if (!size?.width) return;
    const fit = Math.min((size.width - 2 * MARGIN) / placed.width, (size.height - HEAD - 2 * MARGIN) / placed.height);
    const zoom = Math.max(LEAST_ZOOM, Math.min(1, fit));
    const centred = { x: (size.width - placed.width * zoom) / 2, y: (size.height + HEAD - placed.height * zoom) / 2 };
    const at = focus === undefined ? undefined : placed.positions.get(focus);
    const near = (room: number, all: number, wanted: number | undefined) =>
      all * zoom <= room - 2 * MARGIN || wanted === undefined
        ? undefined
        : Math.min(MARGIN, Math.max(room - MARGIN - all * zoom, room / 2 - wanted * zoom));
    const isWide = placed.width * zoom > size.width - 2 * MARGIN;
    const isHigh = placed.height * zoom > size.height - HEAD - 2 * MARGIN;
    const x = near(size.width, placed.width, at?.x) ?? (isWide ? MARGIN : centred.x);
    const y = near(size.height, placed.height, at?.y) ?? (isHigh ? HEAD + MARGIN : centred.y);
    void flow.setViewport({ x, y, zoom });
  }, [placed, sheet, focus, flow]);
}

/** The width of an element in pixels, 0 before it is there. */
export function useWidth(of: RefObject<HTMLElement | null>): number {
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    const element = of.current;
    if (!element) return;
    const measure = () => setWidth(element.clientWidth);
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    return () => observer.disconnect();
  }, [of]);
  return width;
}
