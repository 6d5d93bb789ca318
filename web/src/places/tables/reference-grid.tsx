import { useReferenceRows } from './use-reference-rows';
import { proposeUpload, rowsFor } from '@ouvrage/core/intake';
import { useState } from 'react';
import { count, plural } from '../../shared/format';
import { EditableRows } from '../../shared/editable-rows';
import { useTell } from '../../shared/toasts';
import { FileButton } from '../../shared/ui/file-button';
import { WrongValues } from './wrong-values';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import type { TableSummary } from '../../worker/protocol';
import { FileStrip } from './file-strip';
import { Conflict } from './conflict';

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
      <EditableRows
        label={`Values of ${table.fullName}`}
        header={header}
        rows={rows}
        typeOf={(name) => columns.find((c) => c.name === name)?.type}
        wrong={wrong}
        readOnly={file.readOnly}
        onWrite={write}
        onChange={change}
        onPaste={paste}
        onSort={order}
      />
      <Conflict path={path} file={file} />
    </div>
  );
}
