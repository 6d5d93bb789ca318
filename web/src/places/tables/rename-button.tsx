import type { Renamed } from '@ouvrage/core/assist';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { useAppSelector } from '../../data/store';
import { useDraftReason } from '../../data/use-draft-reason';
import { plural } from '../../shared/format';
import { Proposal, type Undo } from '../../shared/proposal';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { inputClass } from '../../shared/ui/input';
import { Modal } from '../../shared/ui/modal';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';

/** A layer, a table, a column of one, or a parameter. */
type What =
  | { readonly kind: 'layer'; readonly layer: string }
  | { readonly kind: 'parameter'; readonly name: string }
  | { readonly kind: 'table'; readonly table: string }
  | { readonly kind: 'column'; readonly table: string; readonly column: string };

function nameOf(what: What): string {
  switch (what.kind) {
    case 'layer':
      return what.layer;
    case 'parameter':
      return what.name;
    case 'table':
      return what.table;
    case 'column':
      return what.column;
  }
}

/** Renames a layer, a table, a column or a parameter: all uses are shown as a set of edits before they become drafts. */
export function RenameButton({ what }: { what: What }) {
  const [open, setOpen] = useState(false);
  const reason = useDraftReason();
  if (reason !== undefined) return null;
  return (
    <>
      <Button tone="quiet" className="h-5! px-0!" onClick={() => setOpen(true)}>
        Rename
      </Button>
      {open && <RenameDialog what={what} onClose={() => setOpen(false)} />}
    </>
  );
}

function RenameDialog({ what, onClose }: { what: What; onClose: () => void }) {
  const { slug } = useProject();
  const navigate = useNavigate();
  const tell = useTell();
  const typed = useAppSelector((s) => s.interface.typed);
  const [found, setFound] = useState<Renamed>();
  const from = nameOf(what);
  const { register, handleSubmit, getValues } = useForm({ defaultValues: { to: from } });
  const unsaved = Object.keys(typed).filter((key) => key.startsWith(`${slug}:`));
  const show = ({ to }: { to: string }) =>
    projectWorker
      .ask<'rename'>({ kind: 'rename', renaming: { ...what, to } })
      .then(setFound, (error: Error) => tell.problem(readerProblem(error)));
  const kept = (undo: Undo) => {
    const { to } = getValues();
    tell.say(
      `${from} is now ${to}`,
      what.kind === 'parameter' ? undefined : 'Its rows move along with the release.',
      () => void undo(),
    );
    onClose();
    if (what.kind === 'table') void navigate(address.table(slug, to), { replace: true });
  };
  return (
    <Modal title={`Rename ${what.kind === 'column' ? `${what.table}.` : ''}${from}`} open onClose={onClose} wide>
      {unsaved.length > 0 ? (
        <p>
          Save or discard first what is unsaved in {unsaved.map((key) => key.slice(slug.length + 1)).join(', ')}: a
          rename changes files as they are saved.
        </p>
      ) : found && 'files' in found ? (
        <div className="flex flex-col gap-2">
          <p>
            {plural(found.uses, 'place')} in {plural(found.files.length, 'file')}.
          </p>
          <Proposal files={found.files} onBack={() => setFound(undefined)} onKept={kept} />
        </div>
      ) : (
        <form className="flex flex-col gap-3" onSubmit={(e) => void handleSubmit(show)(e)}>
          <label className="flex flex-col gap-1">
            <span className="text-small text-soft">New name</span>
            <input {...register('to')} autoFocus spellCheck={false} className={`${inputClass} font-mono`} />
          </label>
          {found && <Obstacles found={found} />}
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>Cancel</Button>
            <Button tone="act" type="submit">
              Show all uses
            </Button>
          </div>
        </form>
      )}
    </Modal>
  );
}

function Obstacles({ found }: { found: Extract<Renamed, { obstacles: unknown }> }) {
  return (
    <div role="alert" className="border-l-3 border-broken pl-3">
      <p className="font-medium text-broken">This name cannot be given yet</p>
      <ul>
        {found.obstacles.slice(0, 20).map(({ path, message }, i) => (
          <li key={i}>
            {path && <span className="mr-2 font-mono text-small">{path}</span>}
            {message}
          </li>
        ))}
      </ul>
    </div>
  );
}
