import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { useState } from 'react';
import { useBindServerMutation, useConnectionsQuery, useDeleteConnectionMutation } from '../../data/connections';
import { useProject } from '../../data/project';
import { usePerson, whyNot } from '../../data/person';
import type { BoundEnvironment, ConnectionEntry } from '@ouvrage/api/connection';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useTell } from '../../shared/toasts';
import { inputClass } from '../../shared/ui/input';
import { SectionTitle } from '../../shared/ui/section-title';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { ConfirmDestroy } from '../../shared/ui/confirm-destroy';
import { Button } from '../../shared/ui/button';
import { ConnectionForm } from './connection-form';

const ENVIRONMENTS: readonly BoundEnvironment[] = ['production', 'workspaces'];

/** Databases of others, and which of them the project's servers stand for. */
export function Connections() {
  const { data, error, isLoading, refetch } = useConnectionsQuery();
  const person = usePerson();
  const reason = whyNot(person, 'administrator', 'manage connections');
  const [editing, setEditing] = useState<ConnectionEntry | 'new'>();
  const [removing, setRemoving] = useState<ConnectionEntry>();
  const [remove] = useDeleteConnectionMutation();
  const tell = useTell();
  if (isLoading) return <Loading what="Reading connections" />;
  if (error || !data) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  return (
    <>
      <section className="flex flex-col gap-2">
        <SectionTitle aside="secrets are encrypted and never shown">Connections</SectionTitle>
        {data.length === 0 && (
          <Empty title="No connections yet">
            <p>Create one to a database that data comes from, then import its tables under Sources.</p>
          </Empty>
        )}
        {data.length > 0 && (
          <DataTable
            className="border border-line"
            columns={connectionColumns({ reason, change: setEditing, remove: setRemoving })}
            rows={data}
            keyOf={(c) => c.id}
          />
        )}
        <div>
          <Button tone="act" {...(reason ? { reason } : {})} onClick={() => setEditing('new')}>
            New connection
          </Button>
        </div>
      </section>
      <Bindings connections={data} reason={reason} />
      {editing && (
        <ConnectionForm connection={editing === 'new' ? undefined : editing} onClose={() => setEditing(undefined)} />
      )}
      <ConfirmDestroy
        title={`Delete the connection ${removing?.name ?? ''}?`}
        what={
          <p>
            Its secret is deleted.
            {removing && removing.bound.length > 0
              ? ` ${[...new Set(removing.bound.map((b) => b.server))].join(', ')} can no longer be loaded.`
              : ''}
          </p>
        }
        action="Delete the connection"
        open={removing !== undefined}
        onClose={() => setRemoving(undefined)}
        onConfirm={() => removing && void remove(removing.id).unwrap().catch(tell.problem)}
      />
    </>
  );
}

function Bindings({ connections, reason }: { connections: readonly ConnectionEntry[]; reason: string | undefined }) {
  const { summary } = useProject();
  const [bind] = useBindServerMutation();
  const tell = useTell();
  const boundTo = (server: string, environment: BoundEnvironment) =>
    connections.find((c) => c.bound.some((b) => b.server === server && b.environment === environment));
  const choice = (server: string, environment: BoundEnvironment) => {
    const bound = boundTo(server, environment);
    if (reason) return bound?.name ?? <span className="text-advisory-text">not bound</span>;
    return (
      <select
        aria-label={`${server} in ${environment}`}
        value={bound?.id ?? ''}
        onChange={(e) =>
          void bind({ server, environment, connection: e.target.value || null })
            .unwrap()
            .catch(tell.problem)
        }
        className={inputClass}
      >
        <option value="">not bound</option>
        {connections.map((c) => (
          <option key={c.id} value={c.id}>
            {c.name}
          </option>
        ))}
      </select>
    );
  };
  const columns: DataColumn<string>[] = [
    { id: 'server', look: 'font-medium', cell: (server) => server },
    ...ENVIRONMENTS.map((environment) => ({
      id: environment,
      cell: (server: string) => choice(server, environment),
    })),
  ];
  if (summary.servers.length === 0) return null;
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle aside="the connection that each server uses, by environment">Server bindings</SectionTitle>
      <DataTable className="border border-line" columns={columns} rows={summary.servers} keyOf={(server) => server} />
    </section>
  );
}

interface Acts {
  readonly reason: string | undefined;
  readonly change: (connection: ConnectionEntry) => void;
  readonly remove: (connection: ConnectionEntry) => void;
}

const connectionColumns = ({ reason, change, remove }: Acts): DataColumn<ConnectionEntry>[] => [
  { id: 'connection', look: 'font-medium', cell: (c) => c.name },
  { id: 'database', look: 'font-mono text-small', cell: (c) => `${c.host}:${c.port}/${c.database}` },
  { id: 'user', look: 'font-mono text-small', cell: (c) => c.user },
  { id: 'TLS', cell: (c) => c.tls },
  {
    id: 'actions',
    isSilent: true,
    look: 'text-right',
    cell: (c) => (
      <>
        <Button tone="quiet" {...(reason ? { reason } : {})} aria-label={`Change ${c.name}`} onClick={() => change(c)}>
          Change
        </Button>
        <Button tone="quiet" {...(reason ? { reason } : {})} aria-label={`Delete ${c.name}`} onClick={() => remove(c)}>
          Delete
        </Button>
      </>
    ),
  },
];
