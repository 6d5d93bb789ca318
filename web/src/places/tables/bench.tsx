import { type Named, quickFix, type QuickFix } from '@ouvrage/core/assist';
import { isView } from '@ouvrage/core/language';
import { FileStrip } from './file-strip';
import { useEffect, useRef, useState, type ReactNode } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { Group, Panel, Separator } from 'react-resizable-panels';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { Editor, type EditorHandle } from '../../shared/editor';
import { TableIncidents } from '../../shared/open-incident';
import { Hatch } from '../../shared/marks';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import { projectWorker } from '../../worker/client';
import type { EditImpact, PlacedDiagnostic, TableSummary } from '../../worker/protocol';
import { ChecksFacet } from './checks-facet';
import { Conflict } from './conflict';
import { ExamplesFacet } from './examples/examples-facet';
import { ContractPanel } from './contract-panel';
import { InlineButton } from './inline-button';
import { LoadFacet } from './load-facet';
import { PastFacet } from './past-facet';
import type { Stretch } from './anatomy/anatomy-panel';
import { useQueryViews, type QueryViews } from './anatomy/use-query-views';
import { QueryPanel } from './query-panel';
import { useDeclare } from './use-declare';
import { ReferenceGrid } from './reference-grid';
import { RenameButton } from './rename-button';
import { RowsFacet } from './rows-facet';
import { RunButton } from './run-button';
import { EditImpactLine, isQuiet } from './edit-impact';
import { UsesButton, UsesDialog } from './uses-button';
import { TraceFacet } from './trace-facet';
import { offsetOf, useFileText, type FileText } from './use-file-text';

const FACETS = [
  ['definition', 'Definition'],
  ['values', 'Values'],
  ['rows', 'Rows'],
  ['trace', 'Trace'],
  ['checks', 'Checks'],
  ['examples', 'Examples'],
  ['load', 'Load'],
  ['past', 'Past'],
] as const;

const isViewTable = ({ policy }: TableSummary): boolean =>
  policy !== 'intake' && policy !== 'reference' && isView({ policy });

/** What the button over the sheet does, by the view that is open. */
export const RUN_WORDS = { preview: 'Preview', anatomy: 'Count', plan: 'Plan' } as const;

/** The page of one table. */
export function Bench({ table, facet }: { table: TableSummary; facet: string }) {
  const { slug, summary } = useProject();
  const file = useFileText(table.path);
  const editor = useRef<EditorHandle>(null);
  const views = useQueryViews(table.path, (line, column) => editor.current?.goTo(offsetOf(file.text, line, column)));
  const shown = file.answer?.table?.fullName === table.fullName ? file.answer.table : table;
  const position = summary.layers.findIndex((l) => l.name === table.layer);
  const canPreview = table.kind === 'definition';
  return (
    <div className="flex h-full min-h-0">
      <div className="flex min-w-0 flex-1 flex-col">
        <div className="flex h-strip shrink-0 items-center gap-1 border-b border-line px-3.5">
          <Hatch position={position} />
          <h1 className="sheet-title ml-1.5 mr-1.5 truncate" title={table.fullName}>
            {table.fullName}
          </h1>
          <TableIncidents table={table.fullName} />
          <nav aria-label="Facets" className="flex">
            {FACETS.filter(
              ([key]) =>
                (key !== 'values' || table.csvPath !== undefined) &&
                (key !== 'load' || table.kind !== 'source') &&
                (key !== 'examples' || table.kind === 'definition'),
            ).map(([key, label]) => (
              <Link
                key={key}
                to={address.table(slug, table.fullName, key)}
                aria-current={facet === key ? 'page' : undefined}
                className={`rounded-edge px-1.25 py-1 font-medium ${facet === key ? 'bg-wash text-plan' : 'text-soft hover:text-ink'}`}
              >
                {label}
              </Link>
            ))}
          </nav>
          <span className="flex-1" />
          <div className="flex items-center gap-2">
            {canPreview && facet === 'definition' && (
              <Button onClick={() => views.run(file.text)}>{RUN_WORDS[views.view]}</Button>
            )}
            {table.kind !== 'source' && <RunButton table={table.fullName} before={file.keep} />}
          </div>
        </div>
        <div className="min-h-0 flex-1">
          {facet === 'definition' ? (
            <DefinitionFacet
              path={table.path}
              name={table.fullName}
              file={file}
              editor={editor}
              views={canPreview ? views : undefined}
              beside={
                <>
                  <UsesButton kind="table" table={table.fullName} />
                  <RenameButton what={{ kind: 'table', table: table.fullName }} />
                  {isViewTable(table) && <InlineButton view={table.fullName} />}
                  <Link
                    to={address.starter(slug, table.kind === 'source' ? 'clean' : 'summarise', table.fullName)}
                    className="px-1 font-medium whitespace-nowrap text-plan hover:underline"
                  >
                    New table from this
                  </Link>
                </>
              }
            />
          ) : facet === 'values' && table.csvPath !== undefined ? (
            <ReferenceGrid table={table} path={table.csvPath} />
          ) : facet === 'rows' ? (
            <RowsFacet table={table} />
          ) : facet === 'trace' ? (
            <TraceFacet table={table} />
          ) : facet === 'checks' ? (
            <ChecksFacet table={table.fullName} />
          ) : facet === 'examples' && table.kind === 'definition' ? (
            <ExamplesFacet table={table} />
          ) : facet === 'load' ? (
            <LoadFacet table={table} unsaved={file.unsaved} />
          ) : facet === 'past' ? (
            <PastFacet path={table.path} table={table.fullName} />
          ) : (
            <Empty title="This view does not exist" />
          )}
        </div>
      </div>
      {(facet === 'definition' || facet === 'rows') && <ContractPanel table={shown} file={file} />}
      <Conflict path={table.path} file={file} />
    </div>
  );
}

/** The editor, what is wrong in it, and the preview below. */
export function DefinitionFacet({
  path,
  name,
  file,
  editor,
  views,
  beside,
}: {
  path: string;
  name: string;
  file: FileText;
  editor: React.RefObject<EditorHandle | null>;
  views: QueryViews | undefined;
  /** What else can be done from here. */
  beside?: ReactNode;
}) {
  const { diagnostics } = file;
  const [mark, setMark] = useState<Stretch>();
  const [selected, setSelected] = useState<Stretch>();
  const [used, setUsed] = useState<Named>();
  const declare = useDeclare(path, file);
  const { slug, states } = useProject();
  const navigate = useNavigate();
  const at = useSearchParams()[0].get('at');
  useEffect(() => {
    const [line, column = 1] = (at ?? '').split('.').map(Number);
    if (line) editor.current?.goTo(offsetOf(file.text, line, column));
    // Only the address leads there; typing goes on where it is.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [at, path]);
  const inputs = (file.answer?.table?.reads ?? []).filter((t) => (states.get(t)?.where ?? 'nowhere') !== 'nowhere');
  const body = (
    <div className="flex h-full min-h-0 flex-col">
      <FileStrip path={path} file={file}>
        {beside}
      </FileStrip>
      <div className="min-h-0 flex-1">
        <Editor
          key={path}
          path={path}
          text={file.text}
          readOnly={file.readOnly}
          diagnostics={diagnostics}
          leftovers={file.answer?.leftovers}
          onUses={setUsed}
          onChange={file.setText}
          onPreview={() => views?.run(file.text)}
          mark={mark}
          onSelect={views ? setSelected : undefined}
          onKeep={() => void file.keep()}
          complete={(text, offset) => projectWorker.ask<'complete'>({ kind: 'complete', path, text, offset })}
          explain={(text, offset) => projectWorker.ask<'explain'>({ kind: 'explain', path, text, offset })}
          onOpen={({ table, column }) =>
            void navigate(column === undefined ? address.table(slug, table) : address.trace(slug, { table, column }))
          }
          handle={editor}
        />
      </div>
      <Diagnostics
        diagnostics={diagnostics}
        impact={file.answer?.impact}
        onGo={(d) => editor.current?.goTo(d.range.start)}
        fixOf={(d) => (file.readOnly ? undefined : quickFix(file.text, d))}
        onFix={({ start, end, insert }) => file.setText(file.text.slice(0, start) + insert + file.text.slice(end))}
      />
      {used && <UsesDialog of={used} onClose={() => setUsed(undefined)} />}
    </div>
  );
  if (!views) return body;
  return (
    <Group orientation="vertical" className="h-full">
      <Panel defaultSize="50%" minSize="20%">
        {body}
      </Panel>
      <Separator
        className="h-1.25 border-t border-rule bg-paper data-[separator=hover]:bg-wash"
        aria-label="Height of the preview"
      />
      <Panel minSize="15%">
        <QueryPanel
          views={views}
          path={path}
          name={name}
          text={file.text}
          inputs={inputs}
          selected={selected}
          onMark={(stretch) => {
            setMark(stretch);
            if (stretch) editor.current?.show(stretch.start);
          }}
          onDeclare={declare}
        />
      </Panel>
    </Group>
  );
}

function Diagnostics({
  diagnostics,
  impact,
  onGo,
  fixOf,
  onFix,
}: {
  diagnostics: readonly PlacedDiagnostic[];
  impact: EditImpact | undefined;
  onGo: (d: PlacedDiagnostic) => void;
  /** What could be put in by one click. */
  fixOf: (d: PlacedDiagnostic) => QuickFix | undefined;
  onFix: (fix: QuickFix) => void;
}) {
  const changes = impact && !isQuiet(impact) ? impact : undefined;
  if (diagnostics.length === 0 && !changes) return null;
  return (
    <ul aria-label="Problems" className="max-h-28 shrink-0 overflow-auto border-t border-line bg-paper/60">
      {diagnostics.map((d, i) => (
        <li key={i} className="flex items-start hover:bg-wash">
          <button type="button" onClick={() => onGo(d)} className="flex min-w-0 flex-1 gap-2 py-1 pl-3.5 text-left">
            <span
              className={`shrink-0 font-mono text-small ${d.severity === 'error' ? 'text-broken' : 'text-advisory-text'}`}
            >
              {d.line}:{d.column}
            </span>
            <span>
              {d.message}
              {d.hint && <span className="text-soft"> {d.hint}</span>}
            </span>
          </button>
          <Fix fix={fixOf(d)} onFix={onFix} />
        </li>
      ))}
      {changes && <EditImpactLine impact={changes} />}
    </ul>
  );
}

function Fix({ fix, onFix }: { fix: QuickFix | undefined; onFix: (fix: QuickFix) => void }) {
  if (!fix) return null;
  return (
    <button
      type="button"
      onClick={() => onFix(fix)}
      className="shrink-0 px-3.5 py-1 font-medium text-plan hover:underline"
    >
      Replace with {fix.insert}
    </button>
  );
}
