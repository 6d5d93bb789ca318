import type { AnatomyStep } from '@ouvrage/api/anatomy';
import type { Lifted } from '@ouvrage/core/anatomy';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { useNavigate } from 'react-router';
import { address } from '../../../data/addresses';
import { useProject } from '../../../data/project';
import { useAppSelector } from '../../../data/store';
import { useDraftReason } from '../../../data/use-draft-reason';
import { Proposal, type Undo } from '../../../shared/proposal';
import { useTell } from '../../../shared/toasts';
import { Button } from '../../../shared/ui/button';
import { inputClass } from '../../../shared/ui/input';
import { Modal } from '../../../shared/ui/modal';
import { readerProblem } from '../../../worker/channel';
import { projectWorker } from '../../../worker/client';

/** Makes a step a definition of its own: both files are shown before they become drafts. */
export function LiftButton({ table, step }: { table: string; step: AnatomyStep }) {
  const [open, setOpen] = useState(false);
  if (useDraftReason() !== undefined) return null;
  return (
    <>
      <Button tone="quiet" className="h-6!" onClick={() => setOpen(true)}>
        Lift out
      </Button>
      {open && <LiftDialog table={table} step={step} onClose={() => setOpen(false)} />}
    </>
  );
}

function LiftDialog({ table, step, onClose }: { table: string; step: AnatomyStep; onClose: () => void }) {
  const { slug, tables } = useProject();
  const typed = useAppSelector((s) => s.interface.typed);
  const navigate = useNavigate();
  const tell = useTell();
  const [found, setFound] = useState<Lifted>();
  const layer = table.slice(0, table.indexOf('.'));
  const { register, handleSubmit, getValues } = useForm<{ as: string; kind: 'view' | 'table' }>({
    defaultValues: { as: `${layer}.${step.name ?? 'step'}`, kind: 'view' },
  });
  const unsaved = typed[`${slug}:${tables.get(table)!.path}`] !== undefined;
  const show = ({ as, kind }: { as: string; kind: 'view' | 'table' }) =>
    projectWorker
      .ask<'lift'>({ kind: 'lift', lift: { table, step: step.id, as, kind } })
      .then(setFound, (error: Error) => tell.problem(readerProblem(error)));
  const kept = (undo: Undo) => {
    tell.say(`${getValues().as} is a definition now`, `${table} reads it.`, () => void undo());
    onClose();
    void navigate(address.table(slug, getValues().as));
  };
  return (
    <Modal title={`Lift a step out of ${table}`} open onClose={onClose} wide>
      {unsaved ? (
        <p>Save the draft first: a step is lifted out of the query as it is saved.</p>
      ) : found && 'files' in found ? (
        <div className="flex flex-col gap-2">
          {found.note && <p className="text-advisory-text">{found.note}</p>}
          <Proposal files={found.files} onBack={() => setFound(undefined)} onKept={kept} />
        </div>
      ) : (
        <form className="flex flex-col gap-3" onSubmit={(e) => void handleSubmit(show)(e)}>
          <p className="truncate font-mono text-small text-soft">{step.label}</p>
          <label className="flex flex-col gap-1">
            <span className="text-small text-soft">Name of the new definition</span>
            <input {...register('as')} autoFocus spellCheck={false} className={`${inputClass} font-mono`} />
          </label>
          <label className="flex flex-col gap-1">
            <span className="text-small text-soft">What it is</span>
            <select {...register('kind')} className={inputClass}>
              <option value="view">a view: nothing is stored</option>
              <option value="table">a table: its rows are stored at each load</option>
            </select>
          </label>
          {found && (
            <p role="alert" className="border-l-3 border-broken pl-3 text-broken">
              {found.obstacle}
            </p>
          )}
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>Cancel</Button>
            <Button tone="act" type="submit">
              Show both files
            </Button>
          </div>
        </form>
      )}
    </Modal>
  );
}
