import { useVirtualizer } from '@tanstack/react-virtual';
import { useRef } from 'react';
import { isNumeric } from './format';
import { Button } from './ui/button';

const ROW = 28;
/** Rows of a grid that is as high as its rows. */
const MOST_SHOWN = 8;

type Field = string | null;

interface EditableRowsProps {
  readonly label: string;
  readonly header: readonly string[];
  readonly rows: readonly (readonly Field[])[];
  /** The type of a column, if it is known. */
  readonly typeOf: (column: string) => string | undefined;
  /** What is wrong with a value, by `row column`. */
  readonly wrong?: ReadonlyMap<string, string>;
  readonly readOnly: boolean;
  readonly onWrite: (rows: readonly (readonly Field[])[]) => void;
  readonly onChange: (row: number, at: number, value: Field) => void;
  /** Returns false for a single value, which the field takes itself. */
  readonly onPaste: (text: string, row: number, at: number) => boolean;
  readonly onSort?: (column: string) => void;
  /** `all` fills what is there, `rows` is as high as the rows are. */
  readonly height?: 'all' | 'rows';
}

/** Rows of a CSV file, to be changed in place; cells of a spreadsheet can be pasted. */
export function EditableRows(props: EditableRowsProps) {
  const { label, header, rows, typeOf, readOnly, height = 'all', onSort } = props;
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 10,
    initialRect: { width: 800, height: MOST_SHOWN * ROW },
  });
  const template = `44px repeat(${header.length}, minmax(120px, 1fr)) 40px`;
  return (
    <div
      ref={scroller}
      role="table"
      aria-label={label}
      className={height === 'all' ? 'min-h-0 flex-1 overflow-auto' : 'overflow-auto'}
      style={height === 'rows' ? { height: Math.min(rows.length, MOST_SHOWN) * ROW + 27 } : undefined}
      tabIndex={0}
    >
      <div style={{ minWidth: 84 + header.length * 120 }}>
        <div
          role="row"
          className="sticky top-0 z-10 grid border-b border-rule bg-sheet"
          style={{ gridTemplateColumns: template }}
        >
          <div role="columnheader" className="px-2 py-1 text-small text-soft">
            row
          </div>
          {header.map((name) => (
            <div
              key={name}
              role="columnheader"
              className={`truncate px-2 py-1 text-small font-medium ${isNumeric(typeOf(name)) ? 'text-right' : ''}`}
              title={name}
            >
              {onSort ? (
                <button
                  type="button"
                  disabled={readOnly}
                  onClick={() => onSort(name)}
                  className="enabled:hover:text-plan enabled:hover:underline"
                  title={`Sort by ${name}`}
                >
                  {name}
                </button>
              ) : (
                name
              )}
              <span className="ml-1.5 font-mono text-tiny font-normal text-soft">{typeOf(name)}</span>
            </div>
          ))}
          <div role="columnheader">
            <span className="sr-only">action</span>
          </div>
        </div>
        <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {virtual.getVirtualItems().map(({ index, start }) => (
            <Row key={index} {...props} index={index} start={start} template={template} />
          ))}
        </div>
      </div>
    </div>
  );
}

function Row({
  header,
  rows,
  typeOf,
  wrong,
  readOnly,
  onWrite,
  onChange,
  onPaste,
  index,
  start,
  template,
}: EditableRowsProps & { readonly index: number; readonly start: number; readonly template: string }) {
  return (
    <div
      role="row"
      className="absolute left-0 grid w-full border-b border-line"
      style={{ gridTemplateColumns: template, height: ROW, transform: `translateY(${start}px)` }}
    >
      <div role="rowheader" className="px-2 pt-1 font-mono text-small text-soft">
        {index + 1}
      </div>
      {header.map((name, at) => {
        const message = wrong?.get(`${index} ${name}`);
        return (
          <div key={name} role="cell" className="p-px">
            <input
              aria-label={`${name} of row ${index + 1}`}
              aria-invalid={message !== undefined}
              title={message}
              value={rows[index]![at] ?? ''}
              placeholder={rows[index]![at] === '' ? 'empty' : 'null'}
              readOnly={readOnly}
              onChange={(e) => onChange(index, at, e.target.value === '' ? null : e.target.value)}
              onPaste={(e) => {
                if (!readOnly && onPaste(e.clipboardData.getData('text/plain'), index, at)) e.preventDefault();
              }}
              className={`h-full w-full bg-transparent px-2 font-mono text-small placeholder:text-soft placeholder:italic ${message ? 'bg-raised text-broken underline decoration-wavy' : ''} ${isNumeric(typeOf(name)) ? 'text-right' : ''}`}
            />
          </div>
        );
      })}
      <div role="cell">
        <Button
          tone="quiet"
          disabled={readOnly}
          aria-label={`Delete row ${index + 1}`}
          onClick={() => onWrite(rows.filter((_, i) => i !== index))}
        >
          ×
        </Button>
      </div>
    </div>
  );
}
