import { useState } from 'react';
import { Link } from 'react-router';
import type { ExampleState } from '@ouvrage/api/example';
import { address } from '../../../data/addresses';
import { useProject } from '../../../data/project';
import { EditableRows } from '../../../shared/editable-rows';
import { moment, plural } from '../../../shared/format';
import { useKeepFiles } from '../../../shared/proposal';
import { useTell } from '../../../shared/toasts';
import { Button } from '../../../shared/ui/button';
import { ConfirmDestroy } from '../../../shared/ui/confirm-destroy';
import { Menu } from '../../../shared/ui/menu';
import { SectionTitle } from '../../../shared/ui/section-title';
import type { ExampleSummary, PlacedDiagnostic, TableSummary } from '../../../worker/protocol';
import { Conflict } from '../conflict';
import { FileStrip } from '../file-strip';
import { useCsvRows } from '../use-csv-rows';
import { useWhyNoExamples } from './begin-example';
import { Comparison } from './comparison';
import { ExampleMark, exampleWords } from '../../../shared/example-words';
import { additions, asExpected, inOrder, loadsOf, partWords, usePartColumns } from './use-example';

/** One worked example: its files as grids, and what its definition made of them. */
export function ExampleSheet({
  table,
  example,
  state,
  running,
  whyNoRun,
  onRun,
}: {
  table: TableSummary;
  example: ExampleSummary;
  state: Pick<ExampleState, 'verdict' | 'outcome' | 'at'>;
  running: boolean;
  whyNoRun: string | undefined;
  onRun: () => void;
}) {
  const { outcome } = state;
  const { summary, textOf } = useProject();
  const { keep, keeping } = useKeepFiles();
  const [deleting, setDeleting] = useState(false);
  const tell = useTell();
  const reason = useWhyNoExamples();
  const loads = loadsOf(example.files);
  const result = example.files.find((f) => f.part.kind === 'result');
  const more = additions(example, table, textOf);
  const paths = new Set(example.files.map((f) => f.path));
  const wrong = summary.diagnostics.filter((d) => paths.has(d.path) || d.path === table.path);
  const take = async () => {
    if (!result || !outcome) return;
    if (await keep([{ path: result.path, after: asExpected(outcome) }]))
      tell.say('The result is now expected', result.path);
  };
  return (
    <section aria-label={example.name} className="flex min-w-0 flex-1 flex-col">
      <div className="flex h-bar shrink-0 items-center gap-2.5 border-b border-line px-3.5">
        <ExampleMark verdict={state.verdict} />
        <h2 className="truncate font-medium" title={example.name}>
          {example.name}
        </h2>
        <span className="truncate text-small text-soft" aria-live="polite">
          {exampleWords(state)}
          {state.at !== null && `, ${moment(state.at)}`}
        </span>
        <span className="flex-1" />
        {outcome?.verdict === 'differs' && (
          <Button disabled={keeping} {...(reason ? { reason } : {})} onClick={() => void take()}>
            Expect this result
          </Button>
        )}
        <Button disabled={running} {...(whyNoRun ? { reason: whyNoRun } : {})} onClick={onRun}>
          {running ? 'Running …' : 'Run'}
        </Button>
        <Menu
          disabled={reason !== undefined}
          items={[...more.map((m) => [m.key, `Add: ${m.words}`] as const), ['delete', 'Delete the example'] as const]}
          onSelect={(key) =>
            key === 'delete' ? setDeleting(true) : void keep(more.find((m) => m.key === key)?.files ?? [])
          }
        >
          More
        </Menu>
      </div>
      <div className="flex min-h-0 flex-1 flex-col gap-4 overflow-auto py-3">
        {state.verdict === 'errors' && <Wrong diagnostics={wrong} table={table} />}
        {outcome?.error && <Failed error={outcome.error} table={table} />}
        {outcome?.verdict === 'differs' && <Comparison outcome={outcome} />}
        {inOrder(example.files).map(({ path, part }) => (
          <File key={path} path={path} title={partWords(part, loads)} table={table} part={part} />
        ))}
      </div>
      <ConfirmDestroy
        title={`Delete ${example.name}?`}
        what={<p>{plural(example.files.length, 'file')} of the example are deleted as drafts of this workspace.</p>}
        action="Delete example"
        open={deleting}
        onClose={() => setDeleting(false)}
        onConfirm={() => void keep(example.files.map((f) => ({ path: f.path, after: null })))}
      />
    </section>
  );
}

/** What stops an example from running. */
function Wrong({ diagnostics, table }: { diagnostics: readonly PlacedDiagnostic[]; table: TableSummary }) {
  const { slug } = useProject();
  return (
    <ul role="alert" className="mx-3.5 border-l-3 border-broken bg-raised px-3 py-2">
      {diagnostics.slice(0, 20).map((d, i) => (
        <li key={i}>
          <span className="font-medium text-broken">{d.message}</span>
          {d.hint && <span className="text-soft"> ({d.hint})</span>}{' '}
          {d.path === table.path ? (
            <Link
              className="font-mono text-small text-plan underline underline-offset-2"
              to={`${address.table(slug, table.fullName)}?at=${d.line}.${d.column}`}
            >
              {d.path} line {d.line}
            </Link>
          ) : (
            <span className="font-mono text-small text-soft">
              {d.path.slice(d.path.lastIndexOf('/') + 1)} line {d.line}
            </span>
          )}
        </li>
      ))}
    </ul>
  );
}

function Failed({
  error,
  table,
}: {
  error: NonNullable<NonNullable<ExampleState['outcome']>['error']>;
  table: TableSummary;
}) {
  const { slug } = useProject();
  const where =
    error.path === undefined ? undefined : `${error.path}${error.line === undefined ? '' : ` line ${error.line}`}`;
  return (
    <div role="alert" className="mx-3.5 border-l-3 border-broken bg-raised px-3 py-2">
      <p>
        <span className="font-medium text-broken">
          {error.load === undefined ? '' : `Load ${error.load}: `}
          {error.message}
        </span>{' '}
        {where !== undefined &&
          (error.path === table.path ? (
            <Link
              className="font-mono text-small text-plan underline underline-offset-2"
              to={`${address.table(slug, table.fullName)}?at=${error.line ?? 1}`}
            >
              {where}
            </Link>
          ) : (
            <span className="font-mono text-small text-soft">{where}</span>
          ))}
      </p>
      {error.hint && <p className="text-soft">{error.hint}</p>}
    </div>
  );
}

/** One file of an example as a grid. */
function File({
  path,
  title,
  table,
  part,
}: {
  path: string;
  title: string;
  table: TableSummary;
  part: ExampleSummary['files'][number]['part'];
}) {
  const { file, header, rows, broken, write, writeColumns, change, paste } = useCsvRows(path);
  const columns = usePartColumns(table, part);
  const others = columns.filter((c) => !header.includes(c.name));
  const here = file.diagnostics.filter((d) => d.path === path);
  return (
    <section aria-label={title} className="flex shrink-0 flex-col">
      <div className="px-3.5">
        <SectionTitle aside={plural(rows.length, 'row')}>{title}</SectionTitle>
      </div>
      <FileStrip path={path} file={file} shown={path.slice(path.lastIndexOf('/') + 1)}>
        <Button tone="quiet" disabled={file.readOnly} onClick={() => write([...rows, header.map(() => null)])}>
          Add a row
        </Button>
        <Menu
          disabled={file.readOnly}
          items={others.map((c) => [c.name, c.name] as const)}
          onSelect={(name) => writeColumns([...header, name])}
        >
          Add a column
        </Menu>
        <Menu
          disabled={file.readOnly || header.length < 2}
          items={header.map((name) => [name, name] as const)}
          onSelect={(name) => writeColumns(header.filter((h) => h !== name))}
        >
          Remove a column
        </Menu>
      </FileStrip>
      {here.length > 0 && (
        <ul className="px-3.5 pb-1 text-small text-broken">
          {here.slice(0, 5).map((d, i) => (
            <li key={i}>
              line {d.line}: {d.message}
              {d.hint && ` (${d.hint})`}
            </li>
          ))}
        </ul>
      )}
      {broken.length === 0 && (
        <div className="mx-3.5 border border-line">
          <EditableRows
            label={title}
            header={header}
            rows={rows}
            typeOf={(name) => columns.find((c) => c.name === name)?.type}
            readOnly={file.readOnly}
            onWrite={write}
            onChange={change}
            onPaste={paste}
            height="rows"
          />
        </div>
      )}
      <Conflict path={path} file={file} />
    </section>
  );
}
