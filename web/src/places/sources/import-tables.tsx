import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { useMemo, useState } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useConnectionsQuery } from '../../data/connections';
import { useBindNewMutation, useCatalogQuery, useProposeImportMutation } from '../../data/sources';
import { useProject } from '../../data/project';
import { mayAct, usePerson } from '../../data/person';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { ProposedFile } from '@ouvrage/api/project';
import type { CatalogEntry } from '@ouvrage/api/source';
import { count, plural } from '../../shared/format';
import { Proposal } from '../../shared/proposal';
import { useTell } from '../../shared/toasts';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Modal } from '../../shared/ui/modal';
import { Tag } from '../../shared/ui/tag';
import { Button } from '../../shared/ui/button';

/** Declares tables of a connection's database as foreign tables of the project. */
export function ImportTables({ onClose }: { onClose: () => void }) {
  const { slug } = useProject();
  const { data: connections, isLoading } = useConnectionsQuery();
  const [picked, setPicked] = useState<string>();
  const connection = picked ?? connections?.[0]?.id;
  return (
    <Modal title="Import tables" open onClose={onClose} wide>
      {isLoading && <Loading what="Reading connections" />}
      {connections?.length === 0 && (
        <Empty title="No connections yet">
          <p>
            An administrator can create one in{' '}
            <Link className="text-plan underline" to={address.place(slug, 'settings/connections')}>
              Settings
            </Link>
            .
          </p>
        </Empty>
      )}
      {connections && connections.length > 0 && (
        <div className="flex flex-col gap-3">
          <label className="flex items-center gap-2">
            <span className="caps">Connection</span>
            <select value={connection} onChange={(e) => setPicked(e.target.value)} className={`${inputClass} w-auto!`}>
              {connections.map((c) => (
                <option key={c.id} value={c.id}>
                  {c.name}
                </option>
              ))}
            </select>
          </label>
          {connection && <Catalog key={connection} connection={connection} onClose={onClose} />}
        </div>
      )}
    </Modal>
  );
}

const keyOf = (t: Pick<CatalogEntry, 'schema' | 'name'>) => `${t.schema}.${t.name}`;

function Catalog({ connection, onClose }: { connection: string; onClose: () => void }) {
  const { slug } = useProject();
  const { data, error, isLoading, refetch } = useCatalogQuery({ slug, connection });
  const [propose, { isLoading: proposing }] = useProposeImportMutation();
  const person = usePerson();
  const [bindNew] = useBindNewMutation();
  const [search, setSearch] = useState('');
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [files, setFiles] = useState<readonly ProposedFile[]>();
  const [scroller, setScroller] = useState<HTMLDivElement | null>(null);
  const tell = useTell();
  const shown = useMemo(
    () =>
      (data?.tables ?? []).filter((t) =>
        `${keyOf(t)} ${t.comment ?? ''}`.toLowerCase().includes(search.trim().toLowerCase()),
      ),
    [data, search],
  );

  if (isLoading) return <Loading what="Reading the catalog" />;
  if (error || !data) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  if (files) {
    const kept = async () => {
      const binds = !data.isBound && mayAct(person, 'administrator');
      if (binds) await bindNew({ slug, connection, server: data.server }).unwrap().catch(tell.problem);
      tell.say(
        `${plural(chosen.size, 'table')} declared`,
        data.isBound || binds
          ? 'As drafts of this workspace. Bring them in to see their rows.'
          : `As drafts of this workspace. An administrator still has to bind ${data.server} to a connection: ${data.administrators.join(', ')}. It is on their Today.`,
      );
      onClose();
    };
    return <Proposal files={files} onBack={() => setFiles(undefined)} onKept={() => void kept()} />;
  }
  const toggle = (keys: readonly string[], on: boolean) =>
    setChosen((before) => {
      const next = new Set(before);
      for (const key of keys) {
        if (on) next.add(key);
        else next.delete(key);
      }
      return next;
    });
  const ask = () =>
    void propose({
      slug,
      connection,
      tables: data.tables.filter((t) => chosen.has(keyOf(t))).map(({ schema, name }) => ({ schema, name })),
    })
      .unwrap()
      .then(setFiles)
      .catch(tell.problem);
  const allShown = shown.length > 0 && shown.every((t) => chosen.has(keyOf(t)));
  return (
    <>
      <input
        type="search"
        aria-label="Search tables"
        placeholder={`Search ${plural(data.tables.length, 'table')}`}
        value={search}
        onChange={(e) => setSearch(e.target.value)}
        className={inputClass}
      />
      <div
        ref={setScroller}
        className="h-part overflow-auto border border-line bg-raised"
        tabIndex={0}
        role="group"
        aria-label="Tables of the connection"
      >
        <DataTable
          isSticky
          columns={catalogColumns({ chosen, allShown, shown, toggle })}
          rows={shown}
          keyOf={keyOf}
          virtual={{ scroller, height: 27 }}
        />
        {shown.length === 0 && (
          <Empty
            title={data.tables.length === 0 ? 'The connection cannot read any tables' : `No tables match “${search}”`}
          />
        )}
      </div>
      <div className="flex items-center justify-end gap-3">
        <span className="text-small text-soft">
          Tables already declared keep your text; only what changed is updated.
        </span>
        <Button tone="act" disabled={chosen.size === 0 || proposing} onClick={ask}>
          {proposing ? 'Reading columns and keys' : `Declare ${plural(chosen.size, 'table')}`}
        </Button>
      </div>
    </>
  );
}

interface Choice {
  readonly chosen: ReadonlySet<string>;
  readonly shown: readonly CatalogEntry[];
  readonly allShown: boolean;
  readonly toggle: (keys: readonly string[], on: boolean) => void;
}

const catalogColumns = ({ chosen, shown, allShown, toggle }: Choice): DataColumn<CatalogEntry>[] => [
  {
    id: 'chosen',
    width: 'w-8',
    title: (
      <input
        type="checkbox"
        aria-label="All tables shown"
        checked={allShown}
        onChange={(e) => toggle(shown.map(keyOf), e.target.checked)}
      />
    ),
    cell: (t) => (
      <input
        type="checkbox"
        aria-label={keyOf(t)}
        checked={chosen.has(keyOf(t))}
        onChange={(e) => toggle([keyOf(t)], e.target.checked)}
      />
    ),
  },
  {
    id: 'table',
    sortBy: keyOf,
    cell: (t) => (
      <>
        <span className="text-soft">{t.schema}.</span>
        <span className="font-medium">{t.name}</span> {t.kind === 'view' && <Tag>view</Tag>}
      </>
    ),
  },
  {
    id: 'rows, estimated',
    inFigures: true,
    sortBy: (t) => t.rows ?? undefined,
    cell: (t) => (t.rows === null ? 'not known' : count(Math.round(t.rows))),
  },
  { id: 'columns', inFigures: true, sortBy: (t) => t.columns, cell: (t) => t.columns },
  { id: 'comment', look: 'max-w-72 truncate text-small text-soft', cell: (t) => t.comment },
  { id: 'in the project', look: 'font-mono text-small', cell: (t) => t.declared ?? '–' },
];
