import { useState } from 'react';
import type { OutboxEntry } from '@ouvrage/api/message';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useOutboxQuery } from '../../data/messages';
import { moment } from '../../shared/format';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { Loading } from '../../shared/ui/loading';
import { Modal } from '../../shared/ui/modal';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';

/** What the demo’s receivers have got: nothing leaves this machine. */
export function Outbox() {
  const { data, error } = useOutboxQuery(undefined, { pollingInterval: 3_000, skipPollingIfUnfocused: true });
  const [open, setOpen] = useState<OutboxEntry>();
  const columns: readonly DataColumn<OutboxEntry>[] = [
    { id: 'when', width: 'w-36', look: 'whitespace-nowrap', sortBy: (e) => e.at, cell: (e) => moment(e.at) },
    { id: 'by', width: 'w-20', cell: (e) => e.channel },
    { id: 'to', width: 'w-56', sortBy: (e) => e.to, cell: (e) => e.to },
    {
      id: 'subject',
      cell: (e) => (
        <button type="button" className="text-left text-plan underline underline-offset-2" onClick={() => setOpen(e)}>
          {e.subject || 'without a subject'}
        </button>
      ),
    },
    {
      id: 'repeats',
      width: 'w-20',
      inFigures: true,
      sortBy: (e) => e.repeats,
      cell: (e) => (e.repeats ? String(e.repeats) : '–'),
    },
  ];
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  if (!data) return <Loading what="Reading the outbox" />;
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle>Outbox</SectionTitle>
      <p className="max-w-150 text-soft">
        The demo has a mail server and a webhook of its own, so that nothing leaves this machine. This is what they got;
        what came again with the same id counts as a repeat.
      </p>
      {data.length ? (
        <DataTable columns={columns} rows={data} keyOf={(e) => e.id} label="Outbox" />
      ) : (
        <p className="text-soft">Nothing was sent yet.</p>
      )}
      {open && (
        <Modal title={open.subject || 'without a subject'} open onClose={() => setOpen(undefined)}>
          <p className="pb-2 text-soft">
            {open.channel} to {open.to}, {moment(open.at)}
          </p>
          <pre className="border border-line bg-raised p-2 font-mono text-small whitespace-pre-wrap break-words">
            {open.body}
          </pre>
        </Modal>
      )}
    </section>
  );
}
