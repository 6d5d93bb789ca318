import { useReferenceRows } from './use-reference-rows';
import { useVirtualizer } from '@tanstack/react-virtual';
import { proposeUpload, rowsFor } from '@ouvrage/core/intake';
import { useRef, useState } from 'react';
import { count, isNumeric, plural } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { FileButton } from '../../shared/ui/file-button';
import { WrongValues } from './wrong-values';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import type { TableSummary } from '../../worker/protocol';
import { FileStrip } from './file-strip';
import { Conflict } from './conflict';

const ROW = 28;

/** What is said of values none of which is wrong. */
function soundWords(checks: ReturnType<typeof useReferenceRows>['checks'], rows: number): string {
  if (checks.failure) return `the contract’s checks could not run: ${checks.failure.title}`;
  if (checks.asking) return 'every value is of its type; the contract’s checks are running';
  if (checks.covered === 0) return 'every value is of its type';
  const first = checks.covered < rows ? ` in the first ${plural(checks.covered, 'row')}` : '';
  return `every value is of its type, and the contract’s checks hold${first}`;
}

/** The rows of a reference table, to be changed in place; they stay a CSV file of the project. */
export function ReferenceGrid({ table, path }: { table: TableSummary; path: string }) {
  const { file, header, rows, columns, broken, problems, wrong, checks, write, change, order, paste } =
    useReferenceRows(table, path);
  const [showsWrong, setShowsWrong] = useState(false);
  const tell = useTell();
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 10,
  });
  if (broken.length || header.length === 0) {
    return (
      <Empty title="This file is not a table yet">
        <p>
          {broken[0] ? `Line ${broken[0].line}: ${broken[0].message}.` : 'It has no header row.'} Fix it under
          Definition, or in its file.
        </p>
      </Empty>
    );
  }
  const template = `44px repeat(${header.length}, minmax(120px, 1fr)) 40px`;
  return (
    <div className="flex h-full min-h-0 flex-col">
      <FileStrip path={path} file={file} />
      <div className="flex h-bar shrink-0 items-center gap-3 border-y border-line px-3.5">
        <Button disabled={file.readOnly} onClick={() => write([...rows, header.map(() => null)])}>
          Add a row
        </Button>
        <FileButton
          disabled={file.readOnly}
          onFile={(taken) => {
            const found = 'problem' in taken ? taken : rowsFor(header, proposeUpload(taken.text));
            if ('problem' in found) return tell.problem({ code: 'file', status: 422, title: found.problem });
            write(found.rows);
            tell.say(
              `${plural(found.rows.length, 'row')} instead of ${count(rows.length)}`,
              found.leftOut.length ? `Left out: ${found.leftOut.join(', ')}.` : undefined,
            );
          }}
        >
          Take a file’s rows
        </FileButton>
        <span className="text-small text-soft">{plural(rows.length, 'row')}; cells of a spreadsheet can be pasted</span>
        <span className="flex-1" />
        <span aria-live="polite" className={`text-small ${problems.length ? 'text-broken' : 'text-soft'}`}>
          {problems.length ? (
            <button
              type="button"
              aria-expanded={showsWrong}
              className="underline"
              onClick={() => setShowsWrong(!showsWrong)}
            >
              {plural(problems.length, 'value')} wrong: row {problems[0]!.row + 1}, {problems[0]!.message}
            </button>
          ) : (
            soundWords(checks, rows.length)
          )}
        </span>
      </div>
      {showsWrong && problems.length > 0 && (
        <section aria-label="What does not fit" className="shrink-0 border-b border-line bg-raised px-3.5 py-1">
          <WrongValues problems={problems} />
        </section>
      )}
      <div
        ref={scroller}
        role="table"
        aria-label={`Values of ${table.fullName}`}
        className="min-h-0 flex-1 overflow-auto"
        tabIndex={0}
      >
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
              className={`truncate px-2 py-1 text-small font-medium ${isNumeric(columns.find((c) => c.name === name)?.type) ? 'text-right' : ''}`}
            >
              <button
                type="button"
                disabled={file.readOnly}
                onClick={() => order(name)}
                className="enabled:hover:text-plan enabled:hover:underline"
                title={`Sort by ${name}`}
              >
                {name}
              </button>
              <span className="ml-1.5 font-mono text-tiny font-normal text-soft">
                {columns.find((c) => c.name === name)?.type}
              </span>
            </div>
          ))}
          <div role="columnheader">
            <span className="sr-only">action</span>
          </div>
        </div>
        <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {virtual.getVirtualItems().map(({ index, start }) => (
            <div
              key={index}
              role="row"
              className="absolute left-0 grid w-full border-b border-line"
              style={{ gridTemplateColumns: template, height: ROW, transform: `translateY(${start}px)` }}
            >
              <div role="rowheader" className="px-2 pt-1 font-mono text-small text-soft">
                {index + 1}
              </div>
              {header.map((name, at) => {
                const message = wrong.get(`${index} ${name}`);
                return (
                  <div key={name} role="cell" className="p-px">
                    <input
                      aria-label={`${name} of row ${index + 1}`}
                      aria-invalid={message !== undefined}
                      title={message}
                      value={rows[index]![at] ?? ''}
                      placeholder="null"
                      readOnly={file.readOnly}
                      onChange={(e) => change(index, at, e.target.value === '' ? null : e.target.value)}
                      onPaste={(e) => {
                        if (!file.readOnly && paste(e.clipboardData.getData('text/plain'), index, at))
                          e.preventDefault();
                      }}
                      className={`h-full w-full bg-transparent px-2 font-mono text-small placeholder:text-soft placeholder:italic ${message ? 'bg-raised text-broken underline decoration-wavy' : ''} ${isNumeric(columns.find((c) => c.name === name)?.type) ? 'text-right' : ''}`}
                    />
                  </div>
                );
              })}
              <div role="cell">
                <Button
                  tone="quiet"
                  disabled={file.readOnly}
                  aria-label={`Delete row ${index + 1}`}
                  onClick={() => write(rows.filter((_, i) => i !== index))}
                >
                  ×
                </Button>
              </div>
            </div>
          ))}
        </div>
      </div>
      <Conflict path={path} file={file} />
    </div>
  );
}
