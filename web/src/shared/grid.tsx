import { getCoreRowModel, useReactTable, type ColumnDef } from '@tanstack/react-table';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useMemo, useRef, useState, type KeyboardEvent } from 'react';
import { cell, isNumeric } from './format';
import { Hint } from './ui/hint';

interface GridProps {
  readonly label: string;
  /** `standIn` says why a column holds what stands for values that loads would give. */
  readonly columns: readonly { readonly name: string; readonly type?: string; readonly standIn?: string }[];
  readonly rows: readonly (readonly (string | null)[])[];
  /** The order of the rows; without `onSort` headers are no buttons. */
  readonly sort?: readonly { readonly column: string; readonly descending: boolean }[];
  readonly onSort?: (column: string) => void;
  /** Asked for more when the last rows come into sight. */
  readonly onEnd?: (() => void) | undefined;
  /** A row is opened by a double click or Enter. */
  readonly onOpen?: (row: number) => void;
  /** Rows that are chosen; Ctrl and a click, or the space bar, choose one or leave it. */
  readonly chosen?: ReadonlySet<number>;
  readonly onChoose?: (row: number) => void;
}

const ROW = 22;
const HEAD = 25;

/** Rows of a query: virtual, with numbers to the right, nulls distinguished, and arrow keys. */
export function Grid({ label, columns, rows, sort, onSort, onEnd, onOpen, chosen, onChoose }: GridProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const [focus, setFocus] = useState({ row: 0, column: 0 });
  const defs = useMemo(() => columns.map((c, i) => definition(c, i, rows)), [columns, rows]);
  const table = useReactTable({
    data: rows as GridRow[],
    columns: defs,
    getCoreRowModel: getCoreRowModel(),
    columnResizeMode: 'onChange',
  });
  const headers = table.getFlatHeaders();
  const template = headers.map((h) => `${h.getSize()}px`).join(' ');
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 12,
    scrollMargin: 0,
  });

  const items = virtual.getVirtualItems();
  const nearEnd = (items.at(-1)?.index ?? 0) >= rows.length - 20;
  useEffect(() => {
    if (nearEnd) onEnd?.();
  }, [nearEnd, onEnd, rows.length]);

  const move = (e: KeyboardEvent) => {
    if ((e.ctrlKey || e.metaKey) && e.key === 'c') {
      void navigator.clipboard.writeText(rows[focus.row]?.[focus.column] ?? '');
      return;
    }
    if (e.key === 'Enter' && onOpen && rows[focus.row]) {
      onOpen(focus.row);
      return;
    }
    if (e.key === ' ' && onChoose && rows[focus.row]) {
      e.preventDefault();
      onChoose(focus.row);
      return;
    }
    const step: Record<string, [number, number]> = {
      ArrowDown: [1, 0],
      ArrowUp: [-1, 0],
      ArrowRight: [0, 1],
      ArrowLeft: [0, -1],
      PageDown: [20, 0],
      PageUp: [-20, 0],
      Home: [-rows.length, 0],
      End: [rows.length, 0],
    };
    const by = step[e.key];
    if (!by) return;
    e.preventDefault();
    const next = { row: clamp(focus.row + by[0], rows.length), column: clamp(focus.column + by[1], columns.length) };
    setFocus(next);
    virtual.scrollToIndex(next.row);
  };

  return (
    <div
      ref={scroller}
      role="grid"
      aria-label={label}
      aria-rowcount={rows.length + 1}
      aria-colcount={columns.length}
      tabIndex={0}
      onKeyDown={move}
      className="h-full min-h-0 overflow-auto bg-sheet focus-visible:-outline-offset-2"
    >
      <div style={{ width: table.getTotalSize(), minWidth: '100%' }}>
        <div
          role="row"
          aria-rowindex={1}
          className="sticky top-0 z-10 grid border-b border-rule bg-sheet font-medium"
          style={{ gridTemplateColumns: template, height: HEAD }}
        >
          {columns.map((c, i) => (
            <div
              key={i}
              role="columnheader"
              title={c.type}
              aria-sort={sortWord(sort, c.name)}
              className={`relative truncate px-2.5 pt-1 text-small ${isNumeric(c.type) ? 'text-right' : ''}`}
            >
              <span
                aria-hidden
                title="Drag to change the width, double-click to fit"
                onMouseDown={headers[i]!.getResizeHandler()}
                onTouchStart={headers[i]!.getResizeHandler()}
                onDoubleClick={() => headers[i]!.column.resetSize()}
                className="absolute top-0 right-0 h-full w-1.5 cursor-col-resize touch-none hover:bg-rule"
              />
              {onSort ? <SortButton name={c.name} sort={sort ?? []} onSort={onSort} /> : c.name}
              {c.standIn !== undefined && (
                <Hint text={c.standIn}>
                  <span
                    tabIndex={0}
                    className="ml-1.5 text-tiny font-normal text-advisory-text underline decoration-dotted underline-offset-2"
                  >
                    stand-in
                  </span>
                </Hint>
              )}
              {c.type && <span className="ml-1.5 font-mono text-tiny font-normal text-soft">{c.type}</span>}
            </div>
          ))}
        </div>
        <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {items.map((item) => (
            <div
              key={item.key}
              role="row"
              aria-rowindex={item.index + 2}
              onDoubleClick={onOpen && (() => onOpen(item.index))}
              onClick={onChoose && ((e) => (e.ctrlKey || e.metaKey) && onChoose(item.index))}
              aria-selected={chosen?.has(item.index)}
              className={`absolute top-0 left-0 grid w-full border-b border-line/60 ${onOpen ? 'cursor-pointer' : ''} ${chosen?.has(item.index) ? 'bg-wash font-semibold' : ''}`}
              style={{ gridTemplateColumns: template, height: ROW, transform: `translateY(${item.start}px)` }}
            >
              {rows[item.index]!.map((value, i) => (
                <Cell
                  key={i}
                  value={value}
                  type={columns[i]?.type}
                  focused={focus.row === item.index && focus.column === i}
                  onFocus={() => setFocus({ row: item.index, column: i })}
                />
              ))}
            </div>
          ))}
        </div>
      </div>
    </div>
  );
}

type Sort = NonNullable<GridProps['sort']>;

const sortWord = (sort: Sort | undefined, name: string) => {
  const own = sort?.find((s) => s.column === name);
  return own ? (own.descending ? ('descending' as const) : ('ascending' as const)) : undefined;
};

function SortButton({ name, sort, onSort }: { name: string; sort: Sort; onSort: (column: string) => void }) {
  const word = sortWord(sort, name);
  const place = sort.length > 1 && word ? sort.findIndex((s) => s.column === name) + 1 : '';
  return (
    <button
      type="button"
      onClick={() => onSort(name)}
      className="font-medium hover:text-plan hover:underline"
      title={`Sort by ${name}`}
    >
      {name}
      {word && (
        <span aria-hidden className="text-plan">
          {word === 'descending' ? ' ↓' : ' ↑'}
          {place}
        </span>
      )}
    </button>
  );
}

function Cell({
  value,
  type,
  focused,
  onFocus,
}: {
  value: string | null;
  type: string | undefined;
  focused: boolean;
  onFocus: () => void;
}) {
  const shown =
    value === null ? 'null' : type === 'boolean' ? (value === 't' ? 'true' : 'false') : cell(value, type ?? '');
  return (
    <div
      role="gridcell"
      aria-selected={focused}
      title={value !== null && value.length > 24 ? value : undefined}
      onMouseDown={onFocus}
      className={`truncate px-2.5 font-mono text-small leading-5.25 ${value === null ? 'text-soft italic' : ''} ${isNumeric(type) ? 'text-right' : ''} ${focused ? 'bg-wash' : ''}`}
    >
      {shown}
    </div>
  );
}

type GridRow = GridProps['rows'][number];

const definition = (c: GridProps['columns'][number], i: number, rows: GridProps['rows']): ColumnDef<GridRow> => ({
  id: String(i),
  accessorFn: (row) => row[i],
  size: columnWidth(c.standIn === undefined ? c.name : `${c.name} stand-in`, rows, i),
  minSize: 48,
  maxSize: 1200,
});

const clamp = (n: number, length: number) => Math.max(0, Math.min(n, length - 1));

/** Wide enough for the header and nine values in ten, within bounds. */
function columnWidth(name: string, rows: GridProps['rows'], i: number): number {
  const lengths = rows
    .slice(0, 200)
    .map((r) => Math.min(48, (r[i] ?? 'null').length))
    .sort((a, b) => a - b);
  const typical = lengths[Math.floor(lengths.length * 0.95)] ?? 0;
  return Math.max(72, Math.min(380, Math.max(name.length * 7 + 96, typical * 7.6 + 26)));
}
