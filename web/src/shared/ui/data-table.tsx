import {
  getCoreRowModel,
  getSortedRowModel,
  useReactTable,
  type Column,
  type ColumnDef,
  type Row,
  type RowData,
  type SortingState,
} from '@tanstack/react-table';
import { Fragment, useMemo, useState, type ReactNode } from 'react';
import { Spacer, useVirtualRows } from './virtual-list';

declare module '@tanstack/react-table' {
  // Names of an augmented interface's parameters are the library's.
  // eslint-disable-next-line @typescript-eslint/no-unused-vars
  interface ColumnMeta<TData extends RowData, TValue> {
    readonly title: ReactNode;
    readonly cell: (row: TData) => ReactNode;
    readonly look: string;
    readonly width: string;
    readonly isSilent: boolean;
  }
}

/** A column of a table: what its head says, and what a row shows in it. */
export interface DataColumn<T> {
  /** The head's words, too, unless it has a title of its own. */
  readonly id: string;
  readonly title?: ReactNode;
  /** The head is for screen readers only. */
  readonly isSilent?: boolean;
  /** Figures stand to the right, in the type of code. */
  readonly inFigures?: boolean;
  /** Classes of its cells. */
  readonly look?: string;
  /** Classes that give it a width. */
  readonly width?: string;
  /** What its rows are sorted by; a column without it cannot be sorted. */
  readonly sortBy?: (row: T) => string | number | undefined;
  readonly cell: (row: T) => ReactNode;
}

interface DataTableProps<T> {
  readonly columns: readonly DataColumn<T>[];
  readonly rows: readonly T[];
  readonly keyOf: (row: T) => string | number;
  readonly label?: string;
  /** Classes of the table. */
  readonly className?: string;
  /** Classes of a row. */
  readonly rowLook?: (row: T) => string;
  /** More of a row, below it and as wide as the table. */
  readonly more?: (row: T) => ReactNode;
  /** Only the rows in sight are in the page: what scrolls them, and how high each is, in pixels. */
  readonly virtual?: { readonly scroller: HTMLElement | null; readonly height: number };
  /** Heads stay in sight. */
  readonly isSticky?: boolean;
  /** Little room between columns: for tables of fields. */
  readonly isDense?: boolean;
  /** The heads are for screen readers only. */
  readonly isHeadless?: boolean;
}

const FIGURES = 'text-right font-mono text-small';

/** A table of few columns: sorted by its heads where that makes sense, and with only what is in sight in the page where it is long. */
export function DataTable<T>(props: DataTableProps<T>) {
  const { columns, rows, keyOf } = props;
  const [sorting, setSorting] = useState<SortingState>([]);
  const defs = useMemo(() => columns.map(definition), [columns]);
  const table = useReactTable<T>({
    data: rows as T[],
    columns: defs,
    state: { sorting },
    onSortingChange: setSorting,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
    getRowId: (row) => String(keyOf(row)),
  });
  const all = table.getRowModel().rows;
  const head = props.isHeadless ? 'sr-only' : props.isSticky || props.virtual ? 'sticky top-0 z-10 bg-sheet' : '';
  return (
    <table aria-label={props.label} className={`w-full text-left ${props.className ?? ''}`}>
      <thead className={head}>
        <tr className="border-b border-rule text-small shadow-head">
          {table.getFlatHeaders().map((h) => (
            <Head key={h.id} column={h.column} pad={props.isDense ? 'px-1' : 'px-2.5'} />
          ))}
        </tr>
      </thead>
      <tbody>
        {props.virtual ? <VirtualRows {...props} all={all} virtual={props.virtual} /> : <Rows {...props} shown={all} />}
      </tbody>
    </table>
  );
}

const definition = <T,>(c: DataColumn<T>): ColumnDef<T> => ({
  id: c.id,
  accessorFn: c.sortBy ?? (() => undefined),
  enableSorting: c.sortBy !== undefined,
  sortUndefined: 'last',
  // Called as functions: as components, cells would be remade whenever their columns are.
  meta: {
    title: c.title ?? c.id,
    cell: c.cell,
    look: `${c.inFigures ? FIGURES : ''} ${c.look ?? ''}`,
    width: c.width ?? '',
    isSilent: c.isSilent ?? false,
  },
});

function Head<T>({ column, pad }: { column: Column<T>; pad: string }) {
  const meta = column.columnDef.meta!;
  const { title } = meta;
  const sorted = column.getIsSorted();
  const word = sorted === 'desc' ? 'descending' : sorted === 'asc' ? 'ascending' : undefined;
  return (
    <th
      aria-sort={word}
      className={`${pad} py-1 font-medium whitespace-nowrap ${meta.look.includes('text-right') ? 'text-right' : ''} ${meta.width}`}
    >
      {meta.isSilent ? (
        <span className="sr-only">{title}</span>
      ) : column.getCanSort() ? (
        <button
          type="button"
          onClick={() => column.toggleSorting()}
          className="font-medium hover:text-plan hover:underline"
        >
          {title}
          {word && (
            <span aria-hidden className="text-plan">
              {word === 'descending' ? ' ↓' : ' ↑'}
            </span>
          )}
        </button>
      ) : (
        title
      )}
    </th>
  );
}

type RowsProps<T> = Pick<DataTableProps<T>, 'columns' | 'rowLook' | 'more' | 'isDense'>;

function Rows<T>({
  columns,
  rowLook,
  more,
  isDense,
  shown,
  align,
}: RowsProps<T> & { shown: readonly Row<T>[]; align?: string }) {
  return shown.map((row) => {
    const below = more?.(row.original);
    return (
      <Fragment key={row.id}>
        <tr className={`border-b border-line ${align ?? 'align-baseline'} ${rowLook?.(row.original) ?? ''}`}>
          {row.getVisibleCells().map((c) => (
            <td key={c.id} className={`${isDense ? 'px-1' : 'px-2.5'} py-1 ${c.column.columnDef.meta!.look}`}>
              {c.column.columnDef.meta!.cell(row.original)}
            </td>
          ))}
        </tr>
        {below !== undefined && below !== null && (
          <tr className="border-b border-line bg-wash">
            <td colSpan={columns.length} className="px-2.5 py-2">
              {below}
            </td>
          </tr>
        )}
      </Fragment>
    );
  });
}

function VirtualRows<T>({
  all,
  virtual,
  ...props
}: RowsProps<T> & { all: readonly Row<T>[]; virtual: NonNullable<DataTableProps<T>['virtual']> }) {
  const { rows, above, below } = useVirtualRows(all, virtual.scroller, virtual.height);
  return (
    <>
      <Spacer height={above} />
      <Rows {...props} shown={rows} align="align-middle" />
      <Spacer height={below} />
    </>
  );
}
