import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useRef, type ReactNode } from 'react';

interface VirtualListProps<T> {
  readonly label: string;
  readonly items: readonly T[];
  readonly keyOf: (item: T) => string;
  /** The usual height of an item, in pixels; each is measured once it is in sight. */
  readonly height: number;
  readonly className?: string;
  /** The item that is brought into sight when it changes. */
  readonly current?: number;
  readonly children: (item: T) => ReactNode;
}

/** A list of any length, of which only what is in sight is in the page. */
export function VirtualList<T>({
  label,
  items,
  keyOf,
  height,
  className = '',
  current = -1,
  children,
}: VirtualListProps<T>) {
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: items.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => height,
    getItemKey: (i) => keyOf(items[i]!),
    overscan: 12,
  });
  useEffect(() => {
    if (current >= 0) virtual.scrollToIndex(current, { align: 'auto' });
  }, [current, virtual]);
  return (
    <div ref={scroller} tabIndex={0} className={`min-h-0 overflow-auto focus-visible:-outline-offset-2 ${className}`}>
      <div role="list" aria-label={label} className="relative w-full" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => (
          <div
            key={item.key}
            role="listitem"
            aria-setsize={items.length}
            aria-posinset={item.index + 1}
            ref={virtual.measureElement}
            data-index={item.index}
            className="absolute top-0 left-0 w-full"
            style={{ transform: `translateY(${item.start}px)` }}
          >
            {children(items[item.index]!)}
          </div>
        ))}
      </div>
    </div>
  );
}

/**
 * The rows of a table's body that are in sight, with what is above and below them as two empty rows.
 * @param scroller what the table is scrolled in
 * @param height of each row, in pixels
 * @param current the row that is brought into sight when it changes
 */
export function useVirtualRows<T>(items: readonly T[], scroller: HTMLElement | null, height: number, current = -1) {
  const virtual = useVirtualizer({
    count: items.length,
    getScrollElement: () => scroller,
    estimateSize: () => height,
    overscan: 20,
  });
  useEffect(() => {
    if (scroller && current >= 0) virtual.scrollToIndex(current, { align: 'center' });
  }, [scroller, current, virtual]);
  const shown = virtual.getVirtualItems();
  return {
    rows: shown.map((item) => items[item.index]!),
    above: shown[0]?.start ?? 0,
    below: virtual.getTotalSize() - (shown.at(-1)?.end ?? 0),
  };
}

/** An empty row that stands for those out of sight. */
export const Spacer = ({ height }: { height: number }) => (height > 0 ? <tr aria-hidden style={{ height }} /> : null);
