import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import type { Drift } from '@ouvrage/core/intake';
import { useState } from 'react';
import { useProposeTakeOverMutation } from '../../data/sources';
import { useProject } from '../../data/project';
import type { ProposedFile } from '@ouvrage/api/project';
import { ago } from '../../shared/format';
import { Proposal } from '../../shared/proposal';
import { useTell } from '../../shared/toasts';
import { Modal } from '../../shared/ui/modal';
import { Button } from '../../shared/ui/button';

interface DriftLine {
  readonly name: string;
  readonly declared: string;
  readonly actual: string;
  readonly what: string;
}

/** How a declaration and its system differ, side by side, and one action that takes the system's word. */
export function DriftSheet({
  server,
  table,
  drift,
  comparedAt,
  reason,
  onClose,
}: {
  server: string;
  table: string;
  drift: Drift;
  comparedAt: string | null;
  reason: string | undefined;
  onClose: () => void;
}) {
  const { slug } = useProject();
  const [propose, { isLoading }] = useProposeTakeOverMutation();
  const [files, setFiles] = useState<readonly ProposedFile[]>();
  const tell = useTell();
  const lines: DriftLine[] = [
    ...drift.added.map((c) => ({ name: c.name, declared: 'not declared', actual: c.type, what: 'new in the system' })),
    ...drift.dropped.map((name) => ({ name, declared: 'declared', actual: 'not there', what: 'gone from the system' })),
    ...drift.retyped.map((c) => ({ name: c.name, declared: c.declared, actual: c.actual, what: 'values may not fit' })),
  ];
  const ask = () =>
    void propose({ slug, server, tables: [table] })
      .unwrap()
      .then(setFiles)
      .catch(tell.problem);
  const kept = () => {
    tell.say(
      `${table} matches the system`,
      'A draft of this workspace; it takes effect in production when it is released.',
    );
    onClose();
  };
  return (
    <Modal title={`${table} and ${server} differ`} open onClose={onClose} wide>
      {files ? (
        <Proposal files={files} onBack={() => setFiles(undefined)} onKept={kept} />
      ) : (
        <div className="flex flex-col gap-3">
          <DataTable
            className="border border-line bg-raised"
            columns={driftColumns(server)}
            rows={lines}
            keyOf={(l) => l.name}
          />
          <p className="text-soft">
            Compared {ago(comparedAt)}. Or leave a column out with the option{' '}
            <code className="font-mono text-small">left_out</code>, or let the table accept new columns with{' '}
            <code className="font-mono text-small">drift 'add'</code>.
          </p>
          <div className="flex justify-end">
            <Button tone="act" disabled={isLoading} {...(reason ? { reason } : {})} onClick={ask}>
              Update declaration from the system
            </Button>
          </div>
        </div>
      )}
    </Modal>
  );
}

const driftColumns = (server: string): DataColumn<DriftLine>[] => [
  { id: 'column', look: 'font-medium', cell: (l) => l.name },
  { id: 'in the project', look: 'font-mono text-small', cell: (l) => l.declared },
  { id: `in ${server}`, look: 'font-mono text-small', cell: (l) => l.actual },
  { id: 'what that means', isSilent: true, look: 'text-advisory-text', cell: (l) => l.what },
];
