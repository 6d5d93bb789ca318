import type { Inlined } from '@ouvrage/core/anatomy';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { useAppSelector } from '../../data/store';
import { useDraftReason } from '../../data/use-draft-reason';
import { Proposal, type Undo } from '../../shared/proposal';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { Modal } from '../../shared/ui/modal';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';

/** Puts a view into the one query that reads it; what it says beside its query is lost, and is agreed to first. */
export function InlineButton({ view }: { view: string }) {
  const { slug } = useProject();
  const hasUnsaved = useAppSelector((s) => Object.keys(s.interface.typed).some((k) => k.startsWith(`${slug}:`)));
  const navigate = useNavigate();
  const tell = useTell();
  const [found, setFound] = useState<Inlined>();
  const [agreed, setAgreed] = useState(false);
  if (useDraftReason() !== undefined) return null;
  const ask = () => {
    setAgreed(false);
    projectWorker
      .ask<'inline'>({ kind: 'inline', view })
      .then(setFound, (error: Error) => tell.problem(readerProblem(error)));
  };
  const close = () => setFound(undefined);
  const kept = (undo: Undo) => {
    tell.say(`${view} is part of its reader now`, undefined, () => void undo());
    close();
    void navigate(address.place(slug, 'tables'));
  };
  return (
    <>
      <Button tone="quiet" className="h-5! px-0!" onClick={ask}>
        Put into its reader
      </Button>
      {found && (
        <Modal title={`Put ${view} into its reader`} open onClose={close} wide>
          {'obstacle' in found ? (
            <p role="alert">{found.obstacle}.</p>
          ) : hasUnsaved ? (
            <p>Save or discard first what is unsaved: files are changed as they are saved.</p>
          ) : found.losses.length > 0 && !agreed ? (
            <div className="flex flex-col gap-3">
              <p>What the view says beside its query has no place in its reader and is lost:</p>
              <ul className="list-disc pl-5">
                {found.losses.map((l) => (
                  <li key={l}>{l}</li>
                ))}
              </ul>
              <div className="flex justify-end gap-2">
                <Button onClick={close}>Cancel</Button>
                <Button tone="danger" onClick={() => setAgreed(true)}>
                  Lose these
                </Button>
              </div>
            </div>
          ) : (
            <Proposal files={found.files} onBack={close} onKept={kept} />
          )}
        </Modal>
      )}
    </>
  );
}
