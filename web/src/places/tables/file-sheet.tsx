import { lazy, Suspense, useRef, useState } from 'react';
import { Group, Panel, Separator } from 'react-resizable-panels';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import type { EditorHandle } from '../../shared/editor';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import { DefinitionFacet, RUN_WORDS } from './bench';
import { Conflict } from './conflict';
import { useQueryViews } from './anatomy/use-query-views';
import { offsetOf, useFileText } from './use-file-text';

const Note = lazy(() => import('../../shared/note').then((m) => ({ default: m.Note })));

function Read({ path, text }: { path: string; text: string }) {
  return (
    <div className="h-full overflow-auto" tabIndex={0} role="group" aria-label={path}>
      <Suspense fallback={<Loading what="Opening the note" />}>
        <Note text={text} />
      </Suspense>
    </div>
  );
}

/** A file of the project that is no table: a check, an ad hoc query, a source, a note. */
export function FileSheet({ path }: { path: string }) {
  const { slug, textOf, summary } = useProject();
  const file = useFileText(path);
  const isNote = path.endsWith('.md');
  const [reading, setReading] = useState(true);
  const editor = useRef<EditorHandle>(null);
  const views = useQueryViews(path, (line, column) => editor.current?.goTo(offsetOf(file.text, line, column)));
  if (textOf(path) === undefined) {
    return (
      <Empty title={`There is no file ${path}`}>
        <Link to={address.place(slug, 'tables')} className="text-plan underline">
          See all files
        </Link>
      </Empty>
    );
  }
  const table = summary.tables.find((t) => t.path === path && t.kind !== 'source');
  const isQuery = /^(checks|adhoc)\/.*\.sql$/.test(path) || table?.kind === 'definition';
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="flex h-strip shrink-0 items-center gap-3 border-b border-line px-3.5">
        <h1 className="sheet-title truncate">{path.split('/').at(-1)}</h1>
        {table && (
          <Link to={address.table(slug, table.fullName)} className="text-plan underline">
            {table.fullName}
          </Link>
        )}
        <span className="flex-1" />
        {isNote && <Button onClick={() => setReading(!reading)}>{reading ? 'Edit' : 'Read'}</Button>}
        {isQuery && <Button onClick={() => views.run(file.text)}>{RUN_WORDS[views.view]}</Button>}
      </div>
      <div className="min-h-0 flex-1">
        {isNote && reading ? (
          <Read path={path} text={file.text} />
        ) : isNote ? (
          <Group orientation="horizontal" className="h-full">
            <Panel defaultSize="50%" minSize="25%">
              <DefinitionFacet path={path} name={path} file={file} editor={editor} views={undefined} />
            </Panel>
            <Separator
              className="w-1.25 border-l border-rule bg-paper data-[separator=hover]:bg-wash"
              aria-label="Width of the note as it reads"
            />
            <Panel minSize="25%">
              <Read path={`${path} as it reads`} text={file.text} />
            </Panel>
          </Group>
        ) : (
          <DefinitionFacet path={path} name={path} file={file} editor={editor} views={isQuery ? views : undefined} />
        )}
      </div>
      <Conflict path={path} file={file} />
    </div>
  );
}
